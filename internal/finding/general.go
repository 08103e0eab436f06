package finding

// general says what a finding means to a reader who has not met it: where the cause of the
// catalogue is filled in from a connection, this text stands in gharbor meaning and on the page
// of findings.
var general = map[Code]string{
	QueryNotSent:       "The statement was not sent, since it could not be what was meant.",
	SettingsIncomplete: "The profile does not say enough to connect.",
	SettingsInvalid:    "The profile's settings do not fit together.",
	SettingsNotAgreed: "The profile comes from a project, and you have not agreed to what it does, " +
		"or it has changed since.",
	SettingsTLSFile:    "A file that the profile names for encryption cannot be used.",
	SettingsUnreadable: "The profile, its base or its group cannot be read.",
	SettingsOptionPooled: "A pooler in front of the server does not take a session setting of the " +
		"profile from its clients.",
	SecretAliasChanged: "The alias leads elsewhere, or over another encryption or other hops, than " +
		"when the password was stored for it. The password is not sent there.",
	SecretContainerChanged: "The container is not the one that the stored password was for: its image, " +
		"its data or its engine changed. The password is not sent to it.",
	SecretContainerHasNone: "The container has no variable with a password for this user.",
	SecretVariableUnset:    "The environment variable that the password is to come from is not set.",
	SecretFileMissing:      "The file that the password is to come from is not there, or could not be read.",
	SecretNotReadable: "A file or a folder with passwords is there, and this account may not read " +
		"it: it belongs to another account, or to a folder that does.",
	SecretNotAFile: "A folder, a pipe, a socket or a device is where a file with a password should be.",
	SecretFileUnsafe: "The file that the password is to come from could be read or changed by " +
		"others (its mode).",
	SecretFileForeign: "A file with passwords belongs to another user, who could read it and change it.",
	SecretFolderUnsafe: "The folder of a file with passwords is open to others' writes, or belongs " +
		"to another user.",
	SecretNotKept: "The store that was looked at (wallet, credential file, keyring) has no " +
		"entry for this user and server.",
	SecretBoundElsewhere: "What is stored is bound to another user, server, database or encryption " +
		"than this connection's, and is not sent on it. The difference is named.",
	SecretCredentialsMissing: "The credential file is not there.",
	SecretCredentialsBroken: "A line of the credential file cannot be read, so that none of it is used. " +
		"The line is named and never shown.",
	SecretCredentialsTie:   "Two entries of the credential file serve equally well.",
	SecretKeyringMissing:   "There is no desktop session whose keyring could be asked.",
	SecretKeyringFailed:    "The desktop's keyring could not be asked, stayed locked, or did not answer in time.",
	SecretWalletMissing:    "There is no wallet.",
	SecretWalletIncomplete: "A file of the wallet is not there, and its others are.",
	SecretWalletLocked:     "The wallet opens only with its passphrase, and nobody gave it.",
	SecretWalletPassphrase: "The wallet does not open with this passphrase.",
	SecretWalletEmpty:      "A file of the wallet is empty.",
	SecretWalletCut:        "A file of the wallet is cut off: bytes are missing at its end.",
	SecretWalletDamaged:    "A file of the wallet is damaged: its content is not what was written.",
	SecretWalletFormat:     "A file of the wallet has a format that this version does not know.",
	SecretWalletSwapped:    "A file of the wallet belongs to another wallet.",
	SecretWalletForged: "The wallet's content is not signed by its own key: someone without the " +
		"passphrase wrote it, or the key beside it is an old copy.",
	SecretWalletReplaced: "Another wallet has replaced the one that was there before.",
	SecretWalletUntrusted: "The wallet's key for jobs is another one than was seen before, and is not " +
		"signed by it: someone may have made a wallet of their own in its place.",
	SecretWalletOlder: "The wallet is older than what was seen here before.",
	SecretWalletWorkFactor: "The wallet's keys are sealed with another scrypt work factor than the one " +
		"that is used, and that much work is not done for a stranger's file.",
	SecretWalletMemory: "What is remembered of wallets, to recognise older ones, cannot be read.",
	SecretWalletTie:    "Two entries of the wallet serve equally well.",
	SecretCloudHasNone: "The cloud makes no temporary login for this server.",
	SecretCommandFailed: "The program that is to print the password failed, printed nothing, or took " +
		"longer than ten seconds.",
	SecretUnusable: "What was read as the password cannot be one: it is too long, or has a zero byte.",
	AliasUnknown:   "No file of aliases has an alias of that name.",
	AliasBroken:    "The alias, or the file that it is in, cannot be used.",
	AliasCycle:     "Aliases name each other in a circle, so that none of them leads to a server.",
	AliasEngine:    "The alias is of another kind of database server than the profile.",
	AliasWeakened: "The profile asks for weaker encryption, other hops or another authority " +
		"than its alias allows.",
	AliasNoRecord: "DNS has no SRV records of the name that the alias gives, so that it leads nowhere.",
	AliasNoService: "DNS says that the service does not exist: its SRV record has the target " +
		"\".\" (RFC 2782).",
	AliasAddressRefused: "The SRV records of the alias lead to an address to which no database " +
		"connection is made, such as this machine's own.",
	AliasSRVForeign:     "The SRV records of the alias lead to a server of another domain.",
	AliasOptionsRefused: "The TXT record beside the SRV records of the alias says more than it may.",
	AliasAllFailed:      "None of the alias's addresses let the connection in.",
	AliasNoPrimary:      "The alias must lead to a primary, and none of its servers is one.",
	AliasNoReplica:      "The alias must lead to a replica, and none of its servers is one.",
	CloudAccountUnknown: "The profile names a cloud account that is not here.",
	CloudAccountBroken:  "The file of the cloud account cannot be read.",
	CloudSignedOut:      "You are not signed in to the cloud account.",
	CloudExpired:        "The sign-in to the cloud account is over: the cloud has ended it.",
	CloudKeyMissing: "The sign-in to the cloud account is locked, and the key that opens it was " +
		"not found in the wallet or the keyring.",
	CloudRefused:        "The cloud does not allow the account to do this.",
	CloudServiceOff:     "A service of the cloud that is needed here is switched off.",
	CloudServerUnknown:  "The cloud account has no server of that name.",
	CloudSeveral:        "Several servers of the cloud account have that name.",
	CloudReplicaUnknown: "The server has no replica of that name.",
	CloudOtherEngine:    "The server in the cloud is of another kind than the profile says.",
	CloudStarting:       "The cloud says that the server is not ready yet.",
	CloudStopped:        "The cloud says that the server does not run.",
	CloudPrivateOnly: "The server has a private address only, which can be reached inside its " +
		"network alone.",
	CloudNoPrivate: "The profile asks for a private address, and the server has none.",
	CloudAddressRefused: "The cloud names an address to which no database connection is made, such " +
		"as this machine's own.",
	CloudNotAdmitted: "The cloud lets only some addresses connect to the server, and this " +
		"machine's is not one of them.",
	CloudRateLimited: "The cloud was asked too often. It answers again after a pause.",
	CloudUnreachable: "The cloud cannot be reached, so that its server's address is not known.",
	CloudNotTrusted: "The certificate of whoever answers does not prove that it is the cloud. " +
		"Nothing was sent.",
	CloudDown: "The cloud answers, and says that it has an error itself.",
	CloudOtherIssuer: "Whoever answers for the cloud gives another name or leads elsewhere. " +
		"Nothing was sent.",
	CloudMalformed:              "What answers does not speak the cloud protocol of docs/cloud-api.yaml.",
	CloudSilent:                 "The cloud did not answer in time.",
	ContainerEngineChoice:       "Which container engine to ask is not clear.",
	ContainerEngineNotRunning:   "The container engine does not run: nothing answers where it should be.",
	ContainerEngineNotPermitted: "Your account may not use the container engine.",
	ContainerEngineStranger: "The process behind the container engine's socket belongs neither to root " +
		"nor to you, so that it is not asked.",
	ContainerEngineTooOld: "The container engine is too old: it does not speak a version of the API " +
		"that is used here.",
	ContainerEngineFailed: "The container engine could not be asked.",
	ContainerUnknown:      "The container engine has no container of that name.",
	ContainerChanged: "The container behind an open door is not what it was when the door was " +
		"opened. Nothing was sent to it.",
	ContainerSeveral:     "Several containers fit the name.",
	ContainerOtherEngine: "The container's image is of another kind of database server than the profile says.",
	ContainerNotStarted:  "The container was created, and never started.",
	ContainerPaused:      "The container is paused: its processes are stopped.",
	ContainerRestarting:  "The container ends again and again, and is being restarted.",
	ContainerStopped:     "The container is stopped.",
	ContainerPortNotPublished: "The container runs, and its port is not published, so that nothing leads " +
		"to it from this machine.",
	ContainerPublishedElsewhere: "The container's port is published at an address that is not this machine's.",
	ContainerPublishedFar: "The container engine is on another machine, and says that the port is " +
		"published at an address that is not known to be that machine's.",
	ContainerOtherPort: "The container publishes another port than the one that the profile names.",
	ContainerNoStream: "No connection could be opened from inside the container: it has no shell " +
		"with bash, nc or socat.",
	ContainerSettingUp: "The server in the container is setting itself up, and does not listen for " +
		"others yet.",
	ContainerNotListening: "The container runs, and no server listens at its port inside.",
	ContainerSilent:       "The container engine did not answer in time.",
	NameNotFound:          "The name service knows no machine of the host's name.",
	NameLookupFailed: "The host's name could not be looked up: the name service gave no usable " +
		"answer. The name may exist.",
	NameSilent:  "The name service did not answer in time.",
	NameUnknown: "The host's name could not be looked up.",
	AliasChanged: "The alias behind an open door does not lead where it did when the door was " +
		"opened. Nothing was sent.",
	CloudServerChanged: "The cloud says something else about the server behind an open door than " +
		"when the door was opened. Nothing was sent to it.",
	ExpectAnotherServer: "Another server answers than when the door was opened. Nothing of a " +
		"client's was sent to it.",
	TunnelHopNotFound: "The name service knows no machine of the hop's name.",
	TunnelRefused: "Nothing listens at the hop's address: the machine answered that no program " +
		"has this port open.",
	TunnelStalled:     "The hop accepted the connection, and then did not go on in time.",
	TunnelSilent:      "The hop did not answer in time.",
	TunnelNoFiles:     "This process may open no further file or connection.",
	TunnelUnreachable: "There is no route to the hop: the network says that it cannot be reached.",
	TunnelNotOpened:   "A hop did not open a connection to the next one, and does not say why.",
	TunnelDropped: "The hop ended the connection before it said anything. It has too many " +
		"connections that are only starting, or it does not let this address in.",
	TunnelNotSSH:      "What answers at the hop's address is no SSH server.",
	TunnelNoAlgorithm: "This program and the hop have no algorithm in common.",
	TunnelHostKeyUnknown: "The hop shows a host key that is not known here, so that it is not proven " +
		"who answers.",
	TunnelHostKeyChanged: "The hop shows another host key than the one that is known. Someone may be " +
		"in its place; nothing was sent.",
	TunnelHostKeyRevoked: "The hop shows a host key that a file of known hosts revokes.",
	TunnelHostCertificateEnded: "A hop's certificate has ended, or is not valid yet. Its key alone is not " +
		"taken for it.",
	TunnelHostCertificateName:      "A hop's certificate is for other names than the one that it was reached by.",
	TunnelHostCertificateAuthority: "A hop shows a certificate whose authority nobody here knows.",
	TunnelHostCertificateUnfit: "A hop's certificate is not a host's, is signed in a way that is not " +
		"accepted, or its signature is not valid.",
	TunnelKnownHosts: "A file of known hosts cannot be used.",
	TunnelLoginRefused: "The hop does not let the user in: nothing that was offered was accepted, " +
		"or nothing was found to offer.",
	TunnelTooManyKeys: "The hop ended the login after too many keys were offered and none was accepted.",
	TunnelKeyMissing:  "A key that a hop names is not there.",
	TunnelKeyUnsafe: "A key could be read or changed by others, or is in a folder that others " +
		"can write to.",
	TunnelKeyPassphrase: "A key is locked, and its passphrase was not given, or is another.",
	TunnelKeyInvalid:    "A file that is named as a key or a certificate has none that can be used.",
	TunnelHardwareKey:   "The private key is in a hardware key, and the SSH agent does not have it.",
	TunnelCertificate:   "A user's certificate is over, not valid yet, or for another user.",
	TunnelAgentMissing:  "The SSH agent that is named is not there.",
	TunnelAgentEmpty:    "The SSH agent has no keys, and the hop accepted nothing else that was offered.",
	TunnelAgentRefused: "The SSH agent did not sign: it was locked, or the confirmation or the " +
		"touch was refused.",
	TunnelForwardingForbidden: "The hop accepted the login, and does not let this user go on to other machines.",
	TunnelLost:                "The connection to the hop ended in the middle.",
	TunnelConfigUnsupported:   "The SSH configuration says something of the hop that cannot be done here.",
	TunnelConfigBroken:        "The SSH configuration cannot be read.",
	TunnelConfigRefuses:       "The SSH configuration refuses this host (RefuseConnection).",
	TunnelCommandValue: "A value that the ProxyCommand of the SSH configuration uses has a " +
		"character that a shell reads as more than a name.",
	TunnelNoShell:         "No ProxyCommand is started on this system.",
	TunnelCommandRelative: "The ProxyCommand for a project's hop starts a program by a relative path.",
	TunnelUnknown:         "The hop could not be used, for a reason that is not known here.",
	PortRefused: "Nothing listens at the address: the machine answered that no program has " +
		"this port open.",
	PortSilent:             "The address did not answer in time: packets get lost, most often at a firewall.",
	PortNoFiles:            "This process may open no further file or connection.",
	PortUnreachable:        "There is no route to the address: the network says that it cannot be reached.",
	PortReset:              "The connection was cut while it was being made, as some firewalls do.",
	PortNotASocket:         "The path is a file or a folder, and not a socket.",
	PortSocketMissing:      "There is no socket at the path.",
	PortSocketNotPermitted: "Your account may not use the socket.",
	PortSocketRefused: "The socket's file is there, and no server listens behind it: the server " +
		"stopped and left the file.",
	PortSocketOwner: "The process behind the socket belongs to an account that runs no database " +
		"server of this kind. Nothing was sent to it.",
	PortNotOpened:        "The last hop did not open a connection to the server, and does not say why.",
	PortUnknown:          "The address could not be connected to, for a reason that is not known here.",
	GreetingOtherEngine:  "Another kind of database server answers than the profile says.",
	GreetingNotADatabase: "What answers is not a database server.",
	GreetingTooOld:       "The server is too old for this program.",
	GreetingAnotherSet:   "The server is not of the replica set that the profile names.",
	GreetingMalformed:    "What answers does not speak the protocol of this kind of server.",
	GreetingSilent:       "The address accepts the connection, and then says nothing.",
	GreetingClosed:       "The address accepted the connection and closed it without a word.",
	GreetingHostRefused:  "The server accepts no connections from this machine's address, for any account.",
	GreetingTooManyFailures: "The server accepts no more connections from this machine, because too many " +
		"were aborted before.",
	GreetingTooMuch: "The server sends far more than a greeting can be long, so that the " +
		"connection was ended.",
	GreetingNoService:  "The listener does not know the service. It does not say which ones it knows.",
	GreetingNoInstance: "The listener does not know the instance.",
	GreetingNotReady: "The listener knows the service, and no instance is ready to take a " +
		"connection for it.",
	GreetingRestricted: "The listener knows the service, and the instance lets in only its administrators.",
	GreetingFiltered:   "The listener lets in only some addresses, and this machine's is none of them.",
	GreetingOwnEncryption: "The server insists on an encryption of its own protocol, which is not TLS " +
		"and is not spoken here.",
	GreetingLedAstray: "The listener hands the connection on to an address that cannot be reached from here.",
	GreetingLedElsewhere: "The listener hands the connection on to an address for which the password " +
		"is not stored. It was not sent there.",
	GreetingLedTooOften: "The listener hands the connection on again and again.",
	GreetingUnknown:     "The server answered with an error before it said what it is.",
	TLSNotOffered:       "The profile asks for encryption, and the server does not offer any.",
	TLSOtherName:        "The server's certificate is for another name than the one that was connected to.",
	TLSSilent:           "The server stopped answering while the encryption was being set up.",
	TLSClosed:           "The server ended the connection while the encryption was being set up.",
	LoginAnotherDatabase: "The database in which the account is looked for does not know it, and another one " +
		"of the server does.",
	LoginRefused: "The server refused the user. Most servers hide whether the name or the " +
		"password is wrong.",
	LoginFirstStartOnly: "The server refused the password of the container's variables. They count " +
		"only at the first start: the container's data is older than they are.",
	LoginPasswordWanted: "The server asks for a password, and the profile says that there is none.",
	LoginNoAccount:      "The server has no account of that name.",
	LoginMayNotLogIn:    "The account exists and may not log in: it is a role for others to take on.",
	LoginNoAccessRule:   "The server has no rule that allows this user into this database from this address.",
	LoginRuleRejects: "The server has a rule that rejects this user, or this address. Rules below " +
		"it do not count.",
	LoginOtherCertificate: "The server lets the user in by a client certificate, and the one that was " +
		"sent is for another name.",
	LoginWantsIdent: "The server asks the system of the client who the user is (ident, RFC " +
		"1413), and got no answer that fits.",
	LoginNotFromHere: "The server has no account of that name for the host from which it sees the " +
		"client come, or one that logs in by its socket alone. It hides which.",
	LoginOldPassword: "The account's password is stored in an old form, which the server does not " +
		"take any more.",
	LoginHourlyLimit:  "The account has used up what it may do in an hour.",
	DatabaseUserLimit: "The user has as many connections open as the account may have.",
	DatabaseBaseLimit: "The database has as many connections open as it may have.",
	LoginWantsSystemUser: "The server accepts the account only for the operating system's user of " +
		"the same name.",
	LoginMethodNotSupported: "The server asks for a login method that is not accepted here.",
	LoginServerUnproven: "The server accepted the user, and did not prove that it knows the account, " +
		"as a real server does with this login method. The connection was ended.",
	LoginTooFewRounds: "The server asks for so few rounds of the password's hash that anyone who " +
		"answers could guess the password. Nothing was sent.",
	LoginTooManyRounds: "The server asks for so many rounds of the password's hash that this " +
		"machine would need longer than a leg may take.",
	LoginTooMuch: "The server sends far more than a login can be long, so that the " +
		"connection was ended.",
	LoginPasswordExpired: "The password has expired. The server allows nothing before it is changed.",
	LoginLocked:          "The account is locked.",
	LoginRoleRefused:     "The login was accepted, and the role that the profile names was not.",
	LoginModeRefused: "The account may not log in with the privileged mode that was asked for, or " +
		"only with one.",
	LoginOldVerifier: "The password is stored in a form of old versions, in which capital letters " +
		"do not count. It is not accepted.",
	LoginNoSession:  "The password is right, and the account has no right to open a session.",
	LoginSilent:     "The server greeted, and did not answer the login in time.",
	LoginClosed:     "The server ended the connection during the login, without a reason.",
	LoginUnknown:    "The server did not accept the user, for a reason that is not known here.",
	DatabaseMissing: "The server has no database of that name.",
	DatabaseNoRight: "The user has logged in, and may not use the database. Some servers say the " +
		"same of a database that does not exist.",
	DatabaseStopped:    "The listener answers, and the database behind it is stopped.",
	DatabaseNotOpen:    "The server has started, and has not opened its database.",
	DatabaseRestricted: "The database is open for its administrators alone.",
	DatabaseClosed:     "The database accepts no connections.",
	DatabaseSilent:     "The login was accepted, and the database did not open in time.",
	DatabaseTooMuch: "The server sends far more than the opening of a database can be long, so " +
		"that the connection was ended.",
	DatabasePooled: "A pooler is in front of the server, and may give each statement another " +
		"session. What was asked for would change the sessions of other clients, or be lost.",
	DatabaseNoServer: "A pooler accepted the login and gives no session: its server is down, or " +
		"all its connections to the server are in use.",
	DatabaseUnknown: "The login was accepted, and the database did not open.",
	QueryNoSuchObject: "The statement names something that the server does not have, or that this " +
		"user cannot see.",
	QueryNoSuchBase: "The statement names a database that the server does not have, or that this " +
		"user cannot see.",
	QueryNotUndoable: "The table is kept in a way that cannot take changes back, so nothing was " +
		"loaded into it.",
	QueryGuarded: "The guard of the profile does not let a statement through that may change something.",
	DatabaseGuarded: "A statement that the profile runs when a session opens (on-open) may " +
		"change something, and the profile's guard refuses that.",
	ExpectOtherIdentity: "Another server answers than at the last good test, and the profile has a guard.",
	QueryOverTime:       "The statement took longer than --for allows. The server was told to end it.",
	QueryPlaces:         "The statement has other places for values than those in double braces.",
	QueryNoRight:        "The user may not do this.",
	QuerySilent:         "The database was open, and the statement was not answered in time.",
	QueryNotHere:        "This kind of server cannot do what was asked for.",
	QueryTooLarge: "One row of the answer, or one other message of the server's, is larger " +
		"than the limit. No more of it was read.",
	ExpectNotMet: "Connecting went well, and not all that the profile expects is true.",
	ExpectCannotSee: "Connecting went well, and the user has too few rights to see whether an " +
		"expectation is met.",
}
