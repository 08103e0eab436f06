package postgres

import (
	"crypto/x509"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// byState maps the server's error codes (SQLSTATE, appendix A of PostgreSQL's manual) to
// findings. Codes that mean several things are told apart in refused.
var byState = map[string]finding.Code{
	"28P01": finding.LoginRefused,
	"3D000": finding.DatabaseMissing,
	"42501": finding.QueryNoRight,
	"53300": finding.DatabaseTooManyConnections,
	"57P01": finding.DatabaseShuttingDown,
	"57P02": finding.DatabaseShuttingDown,
	"55000": finding.DatabaseClosed,
	"57014": finding.QueryStopped,
	"42601": finding.QuerySyntax,
	"42P01": finding.QueryNoSuchObject,
	"42703": finding.QueryNoSuchObject,
	"42883": finding.QueryNoSuchObject,
	"3F000": finding.QueryNoSuchObject,
	"42P07": finding.QueryExistsAlready,
	"42710": finding.QueryExistsAlready,
	"42P04": finding.QueryExistsAlready,
	"42723": finding.QueryExistsAlready,
	"42701": finding.QueryExistsAlready,
	"40P01": finding.QueryDeadlock,
	"40001": finding.QueryConflict,
	"53100": finding.QueryDiskFull,
	"22001": finding.QueryOutOfRange,
	"22003": finding.QueryOutOfRange,
	"22008": finding.QueryOutOfRange,
	"22P02": finding.QueryWrongType,
	"22P03": finding.QueryWrongType,
	"22P04": finding.QueryWrongType,
	"22007": finding.QueryWrongType,
	"22023": finding.QueryWrongType,
	"42804": finding.QueryWrongType,
	"42846": finding.QueryWrongType,
	"23502": finding.QueryConstraint,
	"23503": finding.QueryConstraint,
	"23505": finding.QueryConstraint,
	"23514": finding.QueryConstraint,
	"23P01": finding.QueryConstraint,
	"42P06": finding.QueryExistsAlready,
	"55006": finding.QueryDatabaseInUse,
	"55P03": finding.QueryInUse,
	"25006": finding.QueryReadOnly,
	"0A000": finding.QueryUnknown,
}

// refused gives the failure for an error that the server sent while the connection was being
// opened. The server's words may be in any language; the code, and the name of the routine that
// raised it, are not.
func refused(e *pgconn.PgError, in *inspector) *finding.Problem {
	f := &finding.Problem{Code: byState[e.Code], Words: words(e), Number: outside.Said(e.Code), Err: e,
		Facts: finding.Facts{finding.FactMethod: in.method}}
	if p := ofPooler(e); p != nil {
		p.Set(finding.FactMethod, in.method)
		return p
	}
	switch e.Code {
	case "28000":
		f.Code = noLogin(e, in)
		if card := in.card(); card != "" {
			f.Facts[finding.FactCard] = card
		}
	case "53300":
		switch e.Routine {
		case "InitializeSessionUserId":
			f.Code = finding.DatabaseUserLimit
		case "CheckMyDatabase":
			f.Code = finding.DatabaseBaseLimit
		}
	case "42501":
		f.Code = finding.DatabaseNoRight
	case "57P03":
		f.Code = notReady(e.Message)
	case "55000":
		f.Code = finding.DatabaseClosed
	case "42704", "22023", "42P02":
		f.Code = finding.SettingsOptionRefused
	}
	if f.Code == "" || f.Code.Leg() == "query" {
		f.Code = finding.LoginUnknown
		if in.state >= granted {
			f.Code = finding.DatabaseUnknown
		}
	}
	return f
}

// protocolViolation is the code under which poolers say what they have to say themselves; a
// server has it for what no client of ours sends.
const protocolViolation = "08P01"

// poolers are words of poolers, and what they mean. They differ between versions.
var poolers = []struct {
	words string
	code  finding.Code
}{
	{"unsupported startup parameter", finding.SettingsOptionPooled},
	{"no such database", finding.DatabaseMissing},
	{"no such user", finding.LoginNoAccount},
	{"no more connections allowed", finding.DatabaseTooManyConnections},
	{"not allowed in statement pooling", finding.DatabasePooled},
	{"prepared statement", ""},
	{"query_wait_timeout", finding.DatabaseNoServer},
	{"cannot connect to server", finding.DatabaseNoServer},
	{"server_login_retry", finding.DatabaseNoServer},
	{"server login", finding.DatabaseNoServer},
	{"server conn crashed", finding.DatabaseNoServer},
	{"server connect", finding.DatabaseNoServer},
	{"database is paused", finding.DatabaseNoServer},
	{"shutting down", finding.DatabaseShuttingDown},
}

// ofPooler gives the problem for what a pooler says itself, nil for what is a server's.
func ofPooler(e *pgconn.PgError) *finding.Problem {
	if e.Code != protocolViolation {
		return nil
	}
	text := strings.ToLower(e.Message)
	for _, each := range poolers {
		if !strings.Contains(text, each.words) || each.code == "" {
			continue
		}
		p := &finding.Problem{Code: each.code, Words: words(e), Number: outside.Said(e.Code), Err: e}
		if _, name, found := strings.Cut(e.Message, ": "); found && each.code == finding.SettingsOptionPooled {
			p.Set(finding.FactName, name)
		}
		if each.code == finding.DatabasePooled {
			p.Set(finding.FactWhat, "a transaction of several statements")
		}
		return p
	}
	return nil
}

// noLogin separates what the server means by "invalid authorization specification".
func noLogin(e *pgconn.PgError, in *inspector) finding.Code {
	switch e.Routine {
	case "ClientAuthentication":
		if strings.Contains(e.Message, "client certificate") {
			return finding.TLSClientCertificate
		}
		if strings.Contains(e.Message, "rejects") { // in another language both are one
			return finding.LoginRuleRejects
		}
		return finding.LoginNoAccessRule
	case "auth_failed":
		switch {
		case in.asked != 0:
			return finding.LoginRefused
		case in.unix:
			return finding.LoginWantsSystemUser
		case strings.HasPrefix(e.Message, "Ident "):
			return finding.LoginWantsIdent
		case in.card() != "":
			return finding.LoginOtherCertificate
		}
		return finding.LoginWantsIdent // over the network no other method asks the client for nothing
	case "InitializeSessionUserId":
		switch {
		case strings.Contains(e.Message, "does not exist"):
			return finding.LoginNoAccount
		case strings.Contains(e.Message, "not permitted to log in"):
			return finding.LoginMayNotLogIn
		}
	}
	return finding.LoginUnknown
}

// card gives the name in the client certificate that is sent where the server asks for one, ""
// for none.
func (in *inspector) card() string {
	if in.line.TLS == nil || len(in.line.TLS.Certificates) == 0 || len(in.line.TLS.Certificates[0].Certificate) == 0 {
		return ""
	}
	leaf, err := x509.ParseCertificate(in.line.TLS.Certificates[0].Certificate[0])
	if err != nil {
		return ""
	}
	return leaf.Subject.CommonName
}

// notReady separates the states in which a server accepts connections and no logins. They share
// one code, so only words can say; those of another language stay with the entry that names both.
func notReady(message string) finding.Code {
	switch {
	case strings.Contains(message, "starting up"):
		return finding.DatabaseStartingUp
	case strings.Contains(message, "shutting down"):
		return finding.DatabaseShuttingDown
	}
	return finding.DatabaseNotReady
}

// words puts the server's message together with its detail and hint.
func words(e *pgconn.PgError) outside.Raw {
	text := e.Message
	if e.Detail != "" {
		text += " (" + e.Detail + ")"
	}
	if e.Hint != "" {
		text += " Hint: " + e.Hint
	}
	return outside.Said(text)
}
