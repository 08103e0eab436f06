package finding

// Fact names something that was met: a place in the catalogue's texts, or a proof.
type Fact string

// Facts are what was met, by their names. They may hold words from outside, and are cleaned where
// they are used.
type Facts map[Fact]string

// The facts that texts name.
const (
	FactUnless         Fact = "unless"
	FactOwnOpen        Fact = "own-open" // the database that this session has open itself
	FactRight          Fact = "right"    // the first word of the statement that was refused
	FactRightStatement Fact = "right-statement"
	FactHop            Fact = "hop"
	FactHopAddress     Fact = "hop-address"
	FactHopUser        Fact = "hop-user"
	FactFingerprint    Fact = "fingerprint"
	FactKnownKeys      Fact = "known-keys"
	FactSince          Fact = "since"
	FactAccept         Fact = "accept"
	// the fingerprints that were accepted beforehand, none of which is this key's
	FactAcceptedOthers  Fact = "accepted-others"
	FactFolders         Fact = "folders"
	FactForget          Fact = "forget"           // a hop, as hops forget takes it
	FactForgetElsewhere Fact = "forget-elsewhere" // a command that takes a key out of a file of known hosts
	FactOthers          Fact = "others"
	FactOffered         Fact = "offered"
	FactBanner          Fact = "banner"
	FactBeforeLogin     Fact = "before-login" // the last leg before the login that a server can have
	FactBehind          Fact = "behind"
	FactHere            Fact = "here" // where the connection begins: this machine, or the last hop
	// the host, or the hop, that is reached from this machine itself; unset behind a hop
	FactDirect Fact = "direct"
	// the host that other people run; unset for this machine, and for a container on it
	FactFarHost      Fact = "far-host"
	FactOwnContainer Fact = "own-container" // the container on this machine that was connected to
	// a server's program that runs here, and was not found at any port or socket
	FactRuns                 Fact = "runs"
	FactListens              Fact = "listens"    // what the engine calls its settings of where it listens
	FactIdentity             Fact = "identity"   // the server's own, where a failure shows it
	FactHopSocket            Fact = "hop-socket" // a socket at the last hop
	FactTo                   Fact = "to"
	FactDatabaseUser         Fact = "database-user"
	FactFoundHostPort        Fact = "found-host-port"
	FactFoundSocketTitle     Fact = "found-socket-title"
	FactFoundTitle           Fact = "found-title"
	FactNothing              Fact = "nothing"
	FactUnlockStatement      Fact = "unlock-statement"
	FactLimitStatement       Fact = "limit-statement"      // takes a limit off an account
	FactBaseLimitStatement   Fact = "base-limit-statement" // takes a limit off a database
	FactSecretStatement      Fact = "secret-statement"     // gives an account a password
	FactCertified            Fact = "certified"            // a name that the server's certificate is for
	FactCard                 Fact = "card"                 // the name in the client certificate
	FactPlain                Fact = "plain"                // that the connection is not encrypted, and the server could
	FactNoCard               Fact = "no-card"              // that no client certificate was sent
	FactHourly               Fact = "hourly"               // what an account has used up
	FactLastAddress          Fact = "last-address"
	FactNearUser             Fact = "near-user"
	FactWith                 Fact = "with"
	FactKind                 Fact = "kind"
	FactAccount              Fact = "account"
	FactAccounts             Fact = "accounts" // the database that is asked for the account
	FactAlias                Fact = "alias"
	FactContainer            Fact = "container"
	FactContainerTitle       Fact = "container-title"
	FactContainerPort        Fact = "container-port"
	FactNearContainer        Fact = "near-container"
	FactAdmit                Fact = "admit"
	FactCaller               Fact = "caller"
	FactCloudAccount         Fact = "cloud-account"
	FactCloudName            Fact = "cloud-name"
	FactCloudServer          Fact = "cloud-server"
	FactCloudTitle           Fact = "cloud-title"
	FactCloudURL             Fact = "cloud-url"
	FactReplica              Fact = "replica"
	FactHopProfile           Fact = "hop-profile"
	FactHopWay               Fact = "hop-way"
	FactLink                 Fact = "link"
	FactNearServer           Fact = "near-server"
	FactPrivateServer        Fact = "private-server"
	FactPublicServer         Fact = "public-server"
	FactRanges               Fact = "ranges"
	FactRetry                Fact = "retry"
	FactService              Fact = "service"
	FactSize                 Fact = "size"
	FactLimit                Fact = "limit"
	FactGuard                Fact = "guard"
	FactState                Fact = "state"
	FactStatus               Fact = "status"
	FactImage                Fact = "image"
	FactEngine               Fact = "container-engine"
	FactEngineFrom           Fact = "container-engine-from"
	FactEngineProgram        Fact = "container-program"
	FactEngineStart          Fact = "container-engine-start"
	FactGroup                Fact = "group"
	FactExit                 Fact = "exit"
	FactReach                Fact = "reach"
	FactVolume               Fact = "volume"
	FactVolumeMade           Fact = "volume-made"
	FactContainerMade        Fact = "container-made"
	FactPasswordStatement    Fact = "password-statement"
	FactInWallet             Fact = "in-wallet"
	FactInCredentials        Fact = "in-credentials"
	FactNearAlias            Fact = "near-alias"
	FactAccepted             Fact = "accepted"
	FactAccountStatement     Fact = "account-statement"
	FactAdmin                Fact = "admin"
	FactCertificate          Fact = "certificate"
	FactConnectionsStatement Fact = "connections-statement"
	FactCreateStatement      Fact = "create-statement"
	FactDatabase             Fact = "database"
	FactDetail               Fact = "detail"
	FactFile                 Fact = "file"
	FactFirst                Fact = "first"
	FactFirstBytes           Fact = "first-bytes" // as they came, for whoever names the service behind them
	FactFirstDatabase        Fact = "first-database"
	FactFlag                 Fact = "flag"
	FactFound                Fact = "found"
	FactFoundEngine          Fact = "found-engine"
	FactFoundHost            Fact = "found-host"
	FactFoundPort            Fact = "found-port"
	FactFoundSocket          Fact = "found-socket"
	FactFrom                 Fact = "from"
	FactGrantStatement       Fact = "grant-statement"
	FactSpeaker              Fact = "speaker" // who said what was seen: the server, the hop, the cloud
	FactHidden               Fact = "hidden"
	FactHoldersStatement     Fact = "holders-statement"
	FactHost                 Fact = "host"
	FactIssuer               Fact = "issuer"
	FactKeep                 Fact = "keep"
	FactKeepAgain            Fact = "keep-again"
	FactLeast                Fact = "least"
	FactLedFrom              Fact = "led-from" // the address whose server led to another one
	FactLedTo                Fact = "led-to"   // and that one
	FactMode                 Fact = "mode"     // a privileged mode of a login
	FactLocalTitle           Fact = "local-title"
	FactFix                  Fact = "fix"
	FactMethod               Fact = "method"
	FactMissing              Fact = "missing"
	FactName                 Fact = "name"
	FactNames                Fact = "names"
	FactNear                 Fact = "near"
	FactOrigin               Fact = "origin"
	FactOtherHost            Fact = "other-host"    // another address of this machine at which the same port answers
	FactClientSocket         Fact = "client-socket" // a socket over which the server sees the client as localhost
	FactSeenAs               Fact = "seen-as"       // the host as which the server sees the client
	FactOtherSecret          Fact = "other-secret"
	FactOwner                Fact = "owner"
	FactOwnerId              Fact = "owner-id"
	FactAddress              Fact = "address"
	FactPort                 Fact = "port"
	FactPrivate              Fact = "private"
	FactStays                Fact = "stays"        // the option that has nobody follow what a server names
	FactPrimaryHost          Fact = "primary-host" // where the set of a server says that its primary is
	FactPrimaryPort          Fact = "primary-port"
	FactProcess              Fact = "process"
	FactProfile              Fact = "profile"
	FactQuote                Fact = "quote"
	FactRemote               Fact = "remote"
	FactRole                 Fact = "role"
	FactRounds               Fact = "rounds"
	FactRoundsSetting        Fact = "rounds-setting"
	FactSameAsUser           Fact = "same-as-user"
	FactServers              Fact = "servers"
	FactServed               Fact = "served" // the service or the instance that is asked for, in words
	FactSessionStatement     Fact = "session-statement"
	FactSetting              Fact = "setting"
	FactShared               Fact = "shared"
	FactSocket               Fact = "socket"
	FactStart                Fact = "start"
	FactSubject              Fact = "subject"
	FactSystemUser           Fact = "system-user"
	FactTheKeyring           Fact = "the-keyring"
	FactTimeout              Fact = "timeout"
	FactTitle                Fact = "title"
	// the engine's title, where a server has TLS or not at its one port, and from the first byte
	FactTLSAlone Fact = "tls-alone"
	// the engine's title, where a listener has TLS from the first byte, at a port of its own
	FactTLSFirst Fact = "tls-first"
	// the engine's title, where encryption comes first and the profile has none
	FactTLSUnasked Fact = "tls-unasked"
	FactTook       Fact = "took"
	FactUnmet      Fact = "unmet"
	FactUntil      Fact = "until"
	FactUser       Fact = "user"
	FactUsualPort  Fact = "usual-port"
	FactVariable   Fact = "variable"
	FactVersion    Fact = "version"
	FactWallet     Fact = "wallet"
	FactWanted     Fact = "wanted"
	FactWants      Fact = "wants"
	FactWhat       Fact = "what"
	FactWords      Fact = "words"
	FactWrong      Fact = "wrong"
)
