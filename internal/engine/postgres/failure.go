package postgres

import (
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// byState maps the server's error codes (SQLSTATE, appendix A of PostgreSQL's manual) to findings. Codes that
// mean several things are told apart in refused.
var byState = map[string]string{
	"28P01": "login.refused",
	"3D000": "database.missing",
	"42501": "query.no-right",
	"53300": "database.too-many-connections",
	"57P01": "database.shutting-down",
	"57P02": "database.shutting-down",
	"55000": "database.closed",
	"57014": "query.stopped",
	"42601": "query.syntax",
	"42P01": "query.no-such-object",
	"42703": "query.no-such-object",
	"42883": "query.no-such-object",
	"3F000": "query.no-such-object",
	"42P07": "query.exists-already",
	"42710": "query.exists-already",
	"42P04": "query.exists-already",
	"42P06": "query.exists-already",
	"55006": "query.in-use",
	"55P03": "query.in-use",
	"25006": "query.read-only",
	"0A000": "query.unknown",
}

// refused gives the failure for an error that the server sent while the connection was being opened. The
// server's words may be in any language; the code, and the name of the routine that raised it, are not.
func refused(e *pgconn.PgError, in *inspector) *finding.Problem {
	f := &finding.Problem{Code: byState[e.Code], Words: words(e), Number: outside.Raw(e.Code), Err: e, Facts: map[string]string{"method": in.method}}
	switch e.Code {
	case "28000":
		f.Code = noLogin(e, in)
	case "42501":
		f.Code = "database.no-right"
	case "57P03":
		f.Code = notReady(e.Message)
	case "55000":
		f.Code = "database.closed"
	case "42704", "22023", "42P02":
		f.Code = "settings.option-refused"
	}
	if f.Code == "" || strings.HasPrefix(f.Code, "query.") {
		f.Code = "login.unknown"
		if in.state >= granted {
			f.Code = "database.unknown"
		}
	}
	return f
}

// noLogin tells apart what the server means by "invalid authorization specification".
func noLogin(e *pgconn.PgError, in *inspector) string {
	switch e.Routine {
	case "ClientAuthentication":
		if strings.Contains(e.Message, "client certificate") {
			return "tls.client-certificate"
		}
		return "login.no-access-rule"
	case "auth_failed":
		if in.asked == 0 {
			return "login.wants-system-user"
		}
		return "login.refused"
	case "InitializeSessionUserId":
		switch {
		case strings.Contains(e.Message, "does not exist"):
			return "login.no-account"
		case strings.Contains(e.Message, "not permitted to log in"):
			return "login.may-not-log-in"
		}
	}
	return "login.unknown"
}

// notReady tells apart the states in which a server accepts connections and no logins. They share one code,
// so only words can tell; those of another language stay with the entry that names both.
func notReady(message string) string {
	switch {
	case strings.Contains(message, "starting up"):
		return "database.starting-up"
	case strings.Contains(message, "shutting down"):
		return "database.shutting-down"
	}
	return "database.not-ready"
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
	return outside.Raw(text)
}
