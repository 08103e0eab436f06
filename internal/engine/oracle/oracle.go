// Package oracle logs in to Oracle Database servers through their listener, and runs plain
// statements there.
//
// It speaks the packets' protocol (TNS) and the messages in it (TTC) by itself, since no driver
// can be held to what [engine.Engine] promises (see docs/architecture.md). Neither is published:
// what is known of them is said by the drivers that are named at each part. Only our own practice
// server was met, and the two drivers meet it too.
package oracle

import (
	"context"
	"crypto/tls"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Engine opens connections to Oracle Database. Its zero value is ready.
type Engine struct{}

// abandoning is how long a transaction that is not wanted any more is undone.
const abandoning = time.Second

// Open implements engine.Engine.
func (e Engine) Open(ctx context.Context, end engine.Endpoint, login engine.Login,
	watch engine.Watch) (_ engine.Session, err error) {
	stream, line, saw, err := reach(ctx, end, login, watch)
	if err != nil {
		return nil, err
	}
	s := &session{stream: stream, line: line, login: login, saw: saw}
	defer func() {
		if cause := recover(); cause != nil {
			err = engine.Malformed(cause)
		}
		if err != nil {
			_ = line.Conn.Close()
		}
	}()
	if s.spoken, err = stream.negotiate(ctx); err != nil {
		return nil, err
	}
	if err := s.logIn(ctx); err != nil {
		return nil, s.explained(err)
	}
	in := "let in as " + login.User + " by " + s.method
	if login.Role != "" {
		in += ", as " + login.Role
	}
	watch("login", in)
	state, err := s.settle(ctx)
	if err != nil {
		return nil, err
	}
	watch("database", state)
	return s, nil
}

// explained adds to a refused login what it may be about.
func (s *session) explained(err error) error {
	p := problem(err)
	if p == nil {
		return err
	}
	if p.Facts == nil {
		p.Facts = finding.Facts{}
	}
	if p.Code == finding.LoginModeRefused {
		mode := s.login.Role
		if mode == "" {
			mode = "sysdba"
		}
		p.Facts[finding.FactMode] = mode
	}
	if s.method != "" {
		p.Facts[finding.FactMethod] = s.method
	}
	return err
}

// settle sets the options, and says in which state the database is. Whoever has no privilege is
// let into an open one alone.
func (s *session) settle(ctx context.Context) (string, error) {
	for name, value := range s.login.Options {
		text := "alter session set " + name + " = "
		if strings.ContainsAny(value, `'"`) {
			return "", &finding.Problem{Code: finding.SettingsOptionRefused, Words: outside.Said(name + " has a quote")}
		}
		if _, err := strconv.Atoi(value); err != nil {
			value = "'" + value + "'"
		}
		if err := s.Do(ctx, engine.Statement{Text: text + value}); err != nil {
			if p := problem(err); p != nil && !p.Number.Empty() {
				again := *p
				again.Code = finding.SettingsOptionRefused
				return "", &again
			}
			return "", err
		}
	}
	name := s.told["AUTH_SC_SERVICE_NAME"]
	if name == "" {
		name = strings.TrimPrefix(strings.TrimPrefix(asked(s.login), "the service "), "the instance ")
	}
	if s.login.Role == "" {
		return name + " is open", nil
	}
	row, err := s.row(ctx, "v$instance", "status", "logins")
	if err != nil && !engine.Refused(err) {
		return "", err
	}
	switch {
	case err != nil || row[0] == "" || row[0] == "OPEN" && row[1] != "RESTRICTED":
		return name + " is open", nil
	case row[0] == "OPEN":
		return name + " is open, and lets in only users with the right restricted session", nil
	case row[0] == "MOUNTED":
		return name + " is mounted, and not open", nil
	}
	return name + " is started, and neither mounted nor open", nil
}

// context names what is asked of the server about this session ("SYS_CONTEXT", the engine's SQL
// Language Reference).
func ofSession(name string) string { return "sys_context('userenv', '" + name + "')" }

// Facts implements engine.Session. What this user may not see is left empty.
func (s *session) Facts(ctx context.Context) (engine.Facts, error) {
	facts := engine.Facts{Product: "Oracle Database", User: s.login.User, Login: s.method, Encryption: s.saw}
	if encrypted, ok := s.stream.conn.(*tls.Conn); ok {
		facts.Certificate = engine.Describe(encrypted.ConnectionState())
	}
	if n, err := strconv.ParseInt(s.told["AUTH_VERSION_NO"], 10, 64); err == nil {
		facts.Version = versionText(n, s.spoken.fields)
	}
	row, err := s.row(ctx, "dual", ofSession("session_user"), ofSession("db_name"), ofSession("service_name"),
		ofSession("instance_name"), ofSession("current_schema"), ofSession("isdba"),
		ofSession("database_role"), ofSession("sid"), ofSession("ip_address"), ofSession("db_unique_name"),
		ofSession("con_name"))
	if err != nil && !engine.Refused(err) {
		return facts, err
	}
	facts.Account, facts.Database, facts.Service, facts.Instance, facts.Schema, facts.SessionID, facts.Client = row[0], row[1], row[2], row[3], row[4], row[7], row[8]
	if row[10] != "" && !strings.EqualFold(row[10], "CDB$ROOT") {
		facts.Database = row[10] // the pluggable database that the service leads to
	}
	if row[5] != "" {
		is := strings.EqualFold(row[5], "true")
		facts.Superuser = &is
	}
	if row[6] != "" {
		facts.Among = strings.ToLower(row[6])
		follows := !strings.EqualFold(row[6], "primary")
		facts.Follows = &follows
		if follows {
			facts.ReadOnly = &follows
		}
	}
	if row[9] != "" {
		facts.Identity = row[9]
		if id := s.told["AUTH_DB_ID"]; id != "" {
			facts.Identity += " " + id
		}
		if facts.Database != "" && !strings.EqualFold(facts.Database, row[1]) {
			facts.Identity += " " + facts.Database
		}
	}
	modes, err := s.row(ctx, "v$database", "open_mode")
	switch {
	case err != nil && !engine.Refused(err):
		return facts, err
	case err == nil && modes[0] != "":
		only := strings.HasPrefix(modes[0], "READ ONLY")
		facts.ReadOnly = &only
	}
	facts.Beside = s.warnings
	return facts, nil
}
