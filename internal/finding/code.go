package finding

import "strings"

// Code names a finding: LEG.WORDS. Codes are documented and stay as they are.
type Code string

// Words gives what follows the first word of a code, in words: "host key changed".
func (c Code) Words() string {
	_, words, _ := strings.Cut(string(c), ".")
	return strings.ReplaceAll(words, "-", " ")
}

// Now gives the present code for one of an earlier version, as a history may have it; the same
// code where it has no other.
func (c Code) Now() Code {
	switch c {
	case "secret.not-kept":
		return SecretNotKept
	case "cloud.copy-unknown":
		return CloudReplicaUnknown
	}
	return c
}

// Leg gives the leg that a code belongs to.
func (c Code) Leg() string {
	switch c {
	case AliasUnknown, AliasBroken, AliasCycle, AliasEngine, AliasWeakened, CloudAccountUnknown:
		return "settings" // an alias is a layer of them, and an account is a name in them
	}
	leg, _, _ := strings.Cut(string(c), ".")
	return leg
}

// Of gives the code of words about a leg, such as "silent".
func Of(leg, words string) Code { return Code(leg + "." + words) }

// Silent reports whether the code is of a leg that was not answered in time, Closed whether of
// one that ended without a word.
func (c Code) Silent() bool { return strings.HasSuffix(string(c), ".silent") }

// Closed is described at Silent.
func (c Code) Closed() bool { return strings.HasSuffix(string(c), ".closed") }

// OfListener reports whether the code is of a listener that answered, and does not lead to a
// database: the engine's server greets all the same.
func (c Code) OfListener() bool {
	switch c {
	case GreetingNoService, GreetingNoInstance, GreetingNotReady, GreetingRestricted, GreetingFiltered,
		GreetingLedAstray, GreetingLedTooOften, GreetingOwnEncryption:
		return true
	}
	return false
}

// Every finding's code, in the order of the legs.
const (
	SettingsIncomplete    Code = "settings.incomplete"
	SettingsInvalid       Code = "settings.invalid"
	SettingsNotAgreed     Code = "settings.not-agreed"
	SettingsTLSFile       Code = "settings.tls-file"
	SettingsUnreadable    Code = "settings.unreadable"
	SettingsOptionPooled  Code = "settings.option-pooled"
	SettingsOptionRefused Code = "settings.option-refused"
	SettingsUnknown       Code = "settings.unknown"

	SecretNone               Code = "secret.none"
	SecretAliasChanged       Code = "secret.alias-changed"
	SecretNobodyToAsk        Code = "secret.nobody-to-ask"
	SecretContainerChanged   Code = "secret.container-changed"
	SecretContainerHasNone   Code = "secret.container-has-none"
	SecretVariableUnset      Code = "secret.variable-unset"
	SecretFileMissing        Code = "secret.file-missing"
	SecretNotReadable        Code = "secret.not-readable"
	SecretNotAFile           Code = "secret.not-a-file"
	SecretFileUnsafe         Code = "secret.file-unsafe"
	SecretFileForeign        Code = "secret.file-foreign"
	SecretFolderUnsafe       Code = "secret.folder-unsafe"
	SecretNotKept            Code = "secret.not-stored"
	SecretBoundElsewhere     Code = "secret.bound-elsewhere"
	SecretCredentialsMissing Code = "secret.credentials-missing"
	SecretCredentialsBroken  Code = "secret.credentials-broken"
	SecretCredentialsTie     Code = "secret.credentials-tie"
	SecretKeyringMissing     Code = "secret.keyring-missing"
	SecretKeyringFailed      Code = "secret.keyring-failed"
	SecretWalletMissing      Code = "secret.wallet-missing"
	SecretWalletIncomplete   Code = "secret.wallet-incomplete"
	SecretWalletLocked       Code = "secret.wallet-locked"
	SecretWalletPassphrase   Code = "secret.wallet-passphrase"
	SecretWalletEmpty        Code = "secret.wallet-empty"
	SecretWalletCut          Code = "secret.wallet-cut"
	SecretWalletDamaged      Code = "secret.wallet-damaged"
	SecretWalletFormat       Code = "secret.wallet-format"
	SecretWalletSwapped      Code = "secret.wallet-swapped"
	SecretWalletForged       Code = "secret.wallet-forged"
	SecretWalletReplaced     Code = "secret.wallet-replaced"
	SecretWalletUntrusted    Code = "secret.wallet-untrusted"
	SecretWalletOlder        Code = "secret.wallet-older"
	SecretWalletWorkFactor   Code = "secret.wallet-work-factor"
	SecretWalletMemory       Code = "secret.wallet-memory"
	SecretWalletTie          Code = "secret.wallet-tie"
	SecretCloudHasNone       Code = "secret.cloud-has-none"
	SecretCommandFailed      Code = "secret.command-failed"
	SecretUnusable           Code = "secret.unusable"
	SecretUnknown            Code = "secret.unknown"

	AliasUnknown        Code = "alias.unknown"
	AliasBroken         Code = "alias.broken"
	AliasCycle          Code = "alias.cycle"
	AliasEngine         Code = "alias.engine-differs"
	AliasWeakened       Code = "alias.weakened"
	AliasNoRecord       Code = "alias.no-record"
	AliasNoService      Code = "alias.no-service"
	AliasAddressRefused Code = "alias.address-refused"
	AliasSRVForeign     Code = "alias.srv-foreign"
	AliasOptionsRefused Code = "alias.options-refused"
	AliasAllFailed      Code = "alias.all-failed"
	AliasNoPrimary      Code = "alias.no-primary"
	AliasNoReplica      Code = "alias.no-replica"

	CloudAccountUnknown Code = "cloud.account-unknown"
	CloudAccountBroken  Code = "cloud.account-broken"
	CloudSignedOut      Code = "cloud.signed-out"
	CloudExpired        Code = "cloud.expired"
	CloudKeyMissing     Code = "cloud.key-missing"
	CloudRefused        Code = "cloud.refused"
	CloudServiceOff     Code = "cloud.service-off"
	CloudServerUnknown  Code = "cloud.server-unknown"
	CloudSeveral        Code = "cloud.several"
	CloudReplicaUnknown Code = "cloud.replica-unknown"
	CloudOtherEngine    Code = "cloud.other-engine"
	CloudStarting       Code = "cloud.starting"
	CloudStopped        Code = "cloud.stopped"
	CloudPrivateOnly    Code = "cloud.private-only"
	CloudNoPrivate      Code = "cloud.no-private"
	CloudAddressRefused Code = "cloud.address-refused"
	CloudNotAdmitted    Code = "cloud.not-admitted"
	CloudRateLimited    Code = "cloud.rate-limited"
	CloudUnreachable    Code = "cloud.unreachable"
	CloudNotTrusted     Code = "cloud.not-trusted"
	CloudDown           Code = "cloud.down"
	CloudOtherIssuer    Code = "cloud.other-issuer"
	CloudMalformed      Code = "cloud.malformed"
	CloudSilent         Code = "cloud.silent"
	CloudUnknown        Code = "cloud.unknown"

	ContainerNoEngine           Code = "container.no-engine"
	ContainerEngineChoice       Code = "container.engine-choice"
	ContainerEngineNotRunning   Code = "container.engine-not-running"
	ContainerEngineNotPermitted Code = "container.engine-not-permitted"
	ContainerEngineStranger     Code = "container.engine-stranger"
	ContainerEngineTooOld       Code = "container.engine-too-old"
	ContainerEngineFailed       Code = "container.engine-failed"
	ContainerUnknown            Code = "container.unknown"
	ContainerChanged            Code = "container.changed"
	ContainerSeveral            Code = "container.several"
	ContainerOtherEngine        Code = "container.other-engine"
	ContainerNotStarted         Code = "container.not-started"
	ContainerPaused             Code = "container.paused"
	ContainerRestarting         Code = "container.restarting"
	ContainerStopped            Code = "container.stopped"
	ContainerPortNotPublished   Code = "container.port-not-published"
	ContainerPublishedElsewhere Code = "container.published-elsewhere"
	ContainerPublishedFar       Code = "container.published-far"
	ContainerOtherPort          Code = "container.other-port"
	ContainerNoStream           Code = "container.no-stream"
	ContainerSettingUp          Code = "container.setting-up"
	ContainerNotListening       Code = "container.not-listening"
	ContainerSilent             Code = "container.silent"

	NameNotFound     Code = "name.not-found"
	NameLookupFailed Code = "name.lookup-failed"
	NameSilent       Code = "name.silent"
	NameUnknown      Code = "name.unknown"

	AliasChanged        Code = "alias.changed"
	CloudServerChanged  Code = "cloud.server-changed"
	ExpectAnotherServer Code = "expect.another-server"

	TunnelHopNotFound              Code = "tunnel.hop-not-found"
	TunnelRefused                  Code = "tunnel.refused"
	TunnelSilent                   Code = "tunnel.silent"
	TunnelStalled                  Code = "tunnel.stalled"
	TunnelUnreachable              Code = "tunnel.unreachable"
	TunnelNoFiles                  Code = "tunnel.no-files"
	TunnelNotOpened                Code = "tunnel.not-opened"
	TunnelDropped                  Code = "tunnel.dropped"
	TunnelNotSSH                   Code = "tunnel.not-ssh"
	TunnelNoAlgorithm              Code = "tunnel.no-common-algorithm"
	TunnelHostKeyUnknown           Code = "tunnel.host-key-unknown"
	TunnelHostKeyChanged           Code = "tunnel.host-key-changed"
	TunnelHostKeyRevoked           Code = "tunnel.host-key-revoked"
	TunnelHostCertificateEnded     Code = "tunnel.host-certificate-ended"
	TunnelHostCertificateName      Code = "tunnel.host-certificate-other-name"
	TunnelHostCertificateAuthority Code = "tunnel.host-certificate-authority"
	TunnelHostCertificateUnfit     Code = "tunnel.host-certificate-unfit"
	TunnelKnownHosts               Code = "tunnel.known-hosts"
	TunnelLoginRefused             Code = "tunnel.login-refused"
	TunnelTooManyKeys              Code = "tunnel.too-many-keys"
	TunnelKeyMissing               Code = "tunnel.key-missing"
	TunnelKeyUnsafe                Code = "tunnel.key-unsafe"
	TunnelKeyPassphrase            Code = "tunnel.key-passphrase"
	TunnelKeyInvalid               Code = "tunnel.key-invalid"
	TunnelHardwareKey              Code = "tunnel.hardware-key"
	TunnelCertificate              Code = "tunnel.certificate"
	TunnelAgentMissing             Code = "tunnel.agent-missing"
	TunnelAgentEmpty               Code = "tunnel.agent-empty"
	TunnelAgentRefused             Code = "tunnel.agent-refused"
	TunnelForwardingForbidden      Code = "tunnel.forwarding-forbidden"
	TunnelLost                     Code = "tunnel.lost"
	TunnelConfigUnsupported        Code = "tunnel.config-unsupported"
	TunnelConfigBroken             Code = "tunnel.config-broken"
	TunnelConfigRefuses            Code = "tunnel.config-refuses"
	TunnelCommandValue             Code = "tunnel.command-value"
	TunnelCommandRelative          Code = "tunnel.command-relative"
	TunnelNoShell                  Code = "tunnel.no-shell"
	TunnelUnknown                  Code = "tunnel.unknown"

	PortRefused            Code = "port.refused"
	PortSilent             Code = "port.silent"
	PortUnreachable        Code = "port.unreachable"
	PortNoFiles            Code = "port.no-files"
	PortReset              Code = "port.reset"
	PortNotASocket         Code = "port.not-a-socket"
	PortSocketMissing      Code = "port.socket-missing"
	PortSocketNotPermitted Code = "port.socket-not-permitted"
	PortSocketRefused      Code = "port.socket-refused"
	PortSocketOwner        Code = "port.socket-owner"
	PortNotOpened          Code = "port.not-opened"
	PortUnknown            Code = "port.unknown"

	GreetingOtherEngine     Code = "greeting.other-engine"
	GreetingNotADatabase    Code = "greeting.not-a-database"
	GreetingMalformed       Code = "greeting.malformed"
	GreetingTooOld          Code = "greeting.too-old"
	GreetingAnotherSet      Code = "greeting.another-set"
	GreetingSilent          Code = "greeting.silent"
	GreetingClosed          Code = "greeting.closed"
	GreetingHostRefused     Code = "greeting.host-refused"
	GreetingTooManyFailures Code = "greeting.too-many-failures"
	GreetingTooMuch         Code = "greeting.too-much"
	GreetingNoService       Code = "greeting.no-service"
	GreetingNoInstance      Code = "greeting.no-instance"
	GreetingNotReady        Code = "greeting.not-ready"
	GreetingRestricted      Code = "greeting.restricted"
	GreetingFiltered        Code = "greeting.filtered"
	GreetingOwnEncryption   Code = "greeting.own-encryption"
	GreetingLedAstray       Code = "greeting.led-astray"
	GreetingLedElsewhere    Code = "greeting.led-elsewhere"
	GreetingLedTooOften     Code = "greeting.led-too-often"
	GreetingUnknown         Code = "greeting.unknown"

	TLSNotOffered        Code = "tls.not-offered"
	TLSRequired          Code = "tls.required"
	TLSNotTrusted        Code = "tls.not-trusted"
	TLSExpired           Code = "tls.expired"
	TLSNotYetValid       Code = "tls.not-yet-valid"
	TLSOtherName         Code = "tls.other-name"
	TLSClientCertificate Code = "tls.client-certificate"
	TLSOldProtocol       Code = "tls.old-protocol"
	TLSSilent            Code = "tls.silent"
	TLSClosed            Code = "tls.closed"
	TLSUnknown           Code = "tls.unknown"

	LoginRefused            Code = "login.refused"
	LoginAnotherDatabase    Code = "login.another-database"
	LoginFirstStartOnly     Code = "login.first-start-only"
	LoginPasswordWanted     Code = "login.password-wanted"
	LoginNoAccount          Code = "login.no-account"
	LoginMayNotLogIn        Code = "login.may-not-log-in"
	LoginNoAccessRule       Code = "login.no-access-rule"
	LoginWantsSystemUser    Code = "login.wants-system-user"
	LoginRuleRejects        Code = "login.rule-rejects"
	LoginOtherCertificate   Code = "login.other-certificate"
	LoginWantsIdent         Code = "login.wants-ident"
	LoginNotFromHere        Code = "login.not-from-here"
	LoginOldPassword        Code = "login.old-password"
	LoginHourlyLimit        Code = "login.hourly-limit"
	LoginWouldShowPassword  Code = "login.would-show-password"
	LoginMethodNotSupported Code = "login.method-not-supported"
	LoginServerUnproven     Code = "login.server-unproven"
	LoginTooFewRounds       Code = "login.too-few-rounds"
	LoginTooManyRounds      Code = "login.too-many-rounds"
	LoginTooMuch            Code = "login.too-much"
	LoginPasswordExpired    Code = "login.password-expired"
	LoginLocked             Code = "login.locked"
	LoginRoleRefused        Code = "login.role-refused"
	LoginModeRefused        Code = "login.mode-refused"
	LoginOldVerifier        Code = "login.old-verifier"
	LoginNoSession          Code = "login.no-session"
	LoginSilent             Code = "login.silent"
	LoginClosed             Code = "login.closed"
	LoginUnknown            Code = "login.unknown"

	DatabaseMissing            Code = "database.missing"
	DatabaseNoRight            Code = "database.no-right"
	DatabaseTooManyConnections Code = "database.too-many-connections"
	DatabaseUserLimit          Code = "database.user-limit"
	DatabaseBaseLimit          Code = "database.base-limit"
	DatabaseStartingUp         Code = "database.starting-up"
	DatabaseShuttingDown       Code = "database.shutting-down"
	DatabaseNotReady           Code = "database.not-ready"
	DatabaseStopped            Code = "database.stopped"
	DatabaseNotOpen            Code = "database.not-open"
	DatabaseRestricted         Code = "database.restricted"
	DatabaseClosed             Code = "database.closed"
	DatabaseSilent             Code = "database.silent"
	DatabaseTooMuch            Code = "database.too-much"
	DatabasePooled             Code = "database.pooled"
	DatabaseNoServer           Code = "database.no-server"
	DatabaseOnOpen             Code = "database.on-open"
	DatabaseGuarded            Code = "database.guarded"
	DatabaseUnknown            Code = "database.unknown"

	QuerySyntax        Code = "query.syntax"
	QueryNotSent       Code = "query.not-sent"
	QueryNoSuchObject  Code = "query.no-such-object"
	QueryNoDatabase    Code = "query.no-database"
	QueryNoRight       Code = "query.no-right"
	QueryExistsAlready Code = "query.exists-already"
	QueryInUse         Code = "query.in-use"
	QueryReadOnly      Code = "query.read-only"
	QueryStopped       Code = "query.stopped"
	QuerySilent        Code = "query.silent"
	QueryClosed        Code = "query.closed"
	QueryNotHere       Code = "query.not-here"
	QuerySeveral       Code = "query.several-statements"
	QueryWantsData     Code = "query.wants-data"
	QueryAsksForFile   Code = "query.asks-for-file"
	QueryTooLarge      Code = "query.too-large"
	QueryTooMuch       Code = "query.too-much"
	QueryPlaces        Code = "query.other-places"
	QueryDatabaseInUse Code = "query.database-in-use"
	QueryNoSuchBase    Code = "query.no-such-database"
	QueryOverLimit     Code = "query.over-limit"
	QueryOverTime      Code = "query.over-time"
	QueryDeadlock      Code = "query.deadlock"
	QueryConflict      Code = "query.conflict"
	QueryDiskFull      Code = "query.disk-full"
	QueryOutOfRange    Code = "query.out-of-range"
	QueryWrongType     Code = "query.wrong-type"
	QueryConstraint    Code = "query.constraint"
	QueryGuarded       Code = "query.guarded"
	QueryNotUndoable   Code = "query.not-undoable"
	QueryUnknown       Code = "query.unknown"

	ExpectNotMet        Code = "expect.not-met"
	ExpectOtherIdentity Code = "expect.other-identity"
	ExpectCannotSee     Code = "expect.cannot-see"
	ExpectUnknown       Code = "expect.unknown"
)
