package finding

// The exit codes of the program, as the help and docs state them.
const (
	ExitMixed       = 1 // several profiles that failed in different ways, or an audit that found something serious
	ExitUsage       = 2
	ExitSettings    = 3 // settings, files, an unknown name
	ExitSecret      = 4 // a secret or a passphrase
	ExitNotReached  = 5 // cloud, container, name, tunnel, port, greeting, encryption
	ExitLogin       = 6
	ExitDatabase    = 7 // the database or a statement
	ExitExpectation = 8
	ExitInterrupted = 130
)

var exits = map[string]int{
	"settings": ExitSettings, "secret": ExitSecret,
	"alias": ExitNotReached, "cloud": ExitNotReached, "container": ExitNotReached, "name": ExitNotReached,
	"tunnel": ExitNotReached, "port": ExitNotReached, "greeting": ExitNotReached, "tls": ExitNotReached,
	"login": ExitLogin, "database": ExitDatabase, "query": ExitDatabase, "expect": ExitExpectation,
}

// Exit gives the exit code that belongs to a finding: that of its leg, or of a secret where the
// sign-in to a cloud is missing.
func (f Finding) Exit() int {
	if f.Code == CloudSignedOut || f.Code == CloudExpired || f.Code == CloudKeyMissing {
		return ExitSecret
	}
	return Exit(f.Leg)
}

// Exit gives the exit code that belongs to a leg, ExitMixed for one that is not known.
func Exit(leg string) int {
	if code, known := exits[leg]; known {
		return code
	}
	return ExitMixed
}
