package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

type session struct {
	pg          *pgconn.PgConn
	again       func(ctx context.Context) (engine.Line, error) // a further connection to the same address
	login       engine.Login
	method      string
	encryption  string
	certificate string

	said   *said    // what the server says beside its answers
	pooled *bool    // a pooler is in between; nil for not known yet
	local  string   // the statement that sets the role and the options in each transaction, "" for none
	undo   []string // statements that take back what was set in the session
}

// quote makes a name safe inside a statement.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (s *session) takeRole(ctx context.Context, role string) error {
	_, err := s.texts(ctx, "set role "+quote(role))
	var f *finding.Problem
	if errors.As(err, &f) && !f.Number.Empty() {
		s.roleRefused(ctx, f)
	}
	return err
}

// roleRefused makes a refusal one of the role, unless the role is one that this user may take on.
func (s *session) roleRefused(ctx context.Context, p *finding.Problem) bool {
	if s.login.Role == "" {
		return false
	}
	rows, err := s.texts(ctx, "select rolname from pg_catalog.pg_roles where pg_catalog.pg_has_role(oid, "+
		"'member') and rolname <> current_user")
	if err == nil {
		for _, row := range rows {
			p.Names = append(p.Names, string(row[0]))
		}
	}
	if slices.Contains(p.Names, s.login.Role) {
		p.Names = nil
		return false
	}
	p.Code = finding.LoginRoleRefused
	return true
}

// Ask implements engine.Session.
func (s *session) Ask(ctx context.Context) error {
	_, err := s.texts(ctx, "select 1")
	return err
}

// Do implements engine.Runner.
func (s *session) Do(ctx context.Context, statement engine.Statement) error {
	_, err := s.run(ctx, statement, source{}, &dropped{}, engine.AnswerBytes)
	return err
}

// dropped counts rows that nobody wants.
type dropped struct{ rows, bytes int }

func (*dropped) Columns([]engine.Column) error { return nil }

// Bytes implements engine.Rows. What is copied out for nobody is bounded like any answer.
func (d *dropped) Bytes(data []byte) error {
	if d.bytes += len(data); d.bytes > engine.AnswerBytes {
		return engine.TooMuch("query")
	}
	return nil
}

func (d *dropped) Row([]engine.Cell) error {
	if d.rows++; d.rows > engine.MaxRows {
		return engine.TooMuch("query")
	}
	return nil
}

// texts runs a statement of ours, which gives one result, and gives its rows as text, nil for null.
func (s *session) texts(ctx context.Context, statement string) ([][][]byte, error) {
	if s.local == "" {
		return s.only(s.results(ctx, statement))
	}
	all, err := s.results(ctx, s.local+"; "+statement) // several statements that are sent together are one transaction
	if len(all) > 0 {
		all = all[1:]
	}
	return s.only(all, err)
}

// only gives the one result that there is.
func (*session) only(all [][][][]byte, err error) ([][][]byte, error) {
	if err != nil {
		return nil, err
	}
	if len(all) != 1 {
		return nil, engine.Malformed("more or fewer results than statements")
	}
	return all[0], nil
}

// results runs statements of ours, and gives the rows of each.
func (s *session) results(ctx context.Context, statements string) (all [][][][]byte, err error) {
	s.pg.Frontend().SetMaxBodyLen(engine.AnswerBytes)
	results := s.pg.Exec(ctx, statements)
	for count := 0; results.NextResult(); {
		var rows [][][]byte
		for reader := results.ResultReader(); reader.NextRow(); {
			row := make([][]byte, len(reader.Values()))
			for i, value := range reader.Values() {
				row[i] = slices.Clone(value)
			}
			rows = append(rows, row)
			if count++; count > engine.MaxRows {
				_ = results.Close()
				return nil, engine.TooMuch("query")
			}
		}
		all = append(all, rows)
	}
	if err := results.Close(); err != nil {
		return nil, s.failure(ctx, err)
	}
	return all, nil
}

// Facts implements engine.Session. What this account may not see is left empty.
func (s *session) Facts(ctx context.Context) (engine.Facts, error) {
	facts := engine.Facts{Product: "PostgreSQL", User: s.login.User, Login: s.method, Encryption: s.encryption,
		Certificate: s.certificate}
	// is_superuser is of the current role, and costs the server a tenth of what a look into
	// pg_roles does in a new session.
	row, refused, err := s.row(ctx, "pg_catalog.current_setting('server_version')", "session_user",
		"current_user", "pg_catalog.current_database()",
		"cast(pg_catalog.inet_client_addr() as text)", "pg_catalog.pg_backend_pid()",
		"pg_catalog.current_setting('is_superuser') = 'on'",
		"pg_catalog.current_setting('transaction_read_only') = 'on'", "pg_catalog.pg_is_in_recovery()",
		"pg_catalog.version()")
	if err != nil {
		return facts, err
	}
	facts.Version, _, _ = strings.Cut(string(row[0]), " ")
	facts.Product, facts.Version, facts.Speaks = engine.Named(string(row[9]), "PostgreSQL", facts.Version)
	facts.Account, facts.Database, facts.SessionID = string(row[1]), string(row[3]), string(row[5])
	if current := string(row[2]); current != facts.Account && current != "" {
		facts.Account += ", acting as " + current
	}
	facts.Client, _, _ = strings.Cut(string(row[4]), "/")
	if row[4] == nil && !refused[4] {
		facts.Client = "the socket"
	}
	facts.Superuser, facts.ReadOnly, facts.Follows = truth(row[6]), truth(row[7]), truth(row[8])
	if facts.Follows != nil && *facts.Follows {
		facts.ReadOnly = facts.Follows // a server that follows another takes no changes, no matter what the transaction says
	}
	if s.served(facts.SessionID); s.pooled != nil {
		facts.Pooled = *s.pooled
	}
	// In a statement of its own: some hosted servers keep it to themselves.
	if rows, err := s.texts(ctx, `select cast(system_identifier as text) from pg_catalog.pg_control_system()`); err == nil &&
		len(rows) == 1 && len(rows[0]) == 1 {
		facts.Identity = string(rows[0][0])
	}
	return facts, nil
}

// row asks for some values, see [engine.EachKnown]. What the server does not know stays empty.
func (s *session) row(ctx context.Context, values ...string) (row [][]byte, refused []bool, err error) {
	row = make([][]byte, len(values))
	refused, err = engine.EachKnown(values, func(at int, list []string) error {
		rows, err := s.texts(ctx, "select "+strings.Join(list, ", "))
		if err == nil && (len(rows) != 1 || len(rows[0]) != len(list)) {
			err = engine.Malformed("a row of another size than was asked for")
		}
		if err == nil {
			copy(row[at:], rows[0])
		}
		return err
	})
	return row, refused, err
}

// truth reads a boolean as the server writes it; what it does not write so stays unknown.
func truth(text []byte) *bool {
	var is bool
	switch string(text) {
	case "t", "1":
		is = true
	case "f", "0":
	default:
		return nil
	}
	return &is
}

// Databases implements engine.Lister.
func (s *session) Databases(ctx context.Context) ([]engine.Database, error) {
	rows, err := s.texts(ctx, `select datname, pg_catalog.pg_get_userbyid(datdba), pg_catalog.pg_encoding_to_char(encoding),
		datname = pg_catalog.current_database(), datallowconn and pg_catalog.has_database_privilege(datname, 'CONNECT')
		from pg_catalog.pg_database where not datistemplate order by datname`)
	if engine.Refused(err) { // it only speaks the protocol, and knows less
		rows, err = s.texts(ctx, "select datname, '', '', datname = pg_catalog.current_database(), null from "+
			"pg_catalog.pg_database order by datname")
	}
	if err != nil {
		return nil, err
	}
	list := make([]engine.Database, len(rows))
	for i, row := range rows {
		if len(row) != 5 {
			return nil, engine.Malformed("a row of another size than was asked for")
		}
		open := truth(row[3])
		list[i] = engine.Database{Name: string(row[0]), Owner: string(row[1]), Encoding: string(row[2]),
			Open: open != nil && *open, MayOpen: truth(row[4])}
	}
	return list, nil
}

// literal makes a text safe inside a statement.
func literal(text string) string {
	text = strings.ReplaceAll(text, "'", "''")
	if strings.Contains(text, `\`) {
		return `E'` + strings.ReplaceAll(text, `\`, `\\`) + "'"
	}
	return "'" + text + "'"
}

// Visible implements engine.Lister. A table in a schema that this user may not look into is not
// visible.
func (s *session) Visible(ctx context.Context, tables []string) (map[string]bool, error) {
	seen := map[string]bool{}
	for _, table := range tables {
		rows, err := s.texts(ctx, "select pg_catalog.to_regclass("+literal(table)+") is not null")
		var failure *finding.Problem
		if errors.As(err, &failure) && !failure.Number.Empty() {
			continue
		}
		if err != nil {
			return nil, err
		}
		seen[table] = len(rows) == 1 && len(rows[0]) == 1 && string(rows[0][0]) == "t"
	}
	return seen, nil
}

// May implements engine.Rights.
func (s *session) May(ctx context.Context, right, table string) (*bool, error) {
	rows, err := s.texts(ctx, "select pg_catalog.has_table_privilege(cast(pg_catalog.to_regclass("+literal(table)+") as oid), "+literal(right)+")")
	var failure *finding.Problem
	if errors.As(err, &failure) && !failure.Number.Empty() {
		return nil, nil
	}
	if err != nil || len(rows) != 1 || len(rows[0]) != 1 {
		return nil, err
	}
	return truth(rows[0][0]), nil
}

// cancel has the server end the statement that runs, over a connection of its own to the address
// that serves the session ("Canceling Requests in Progress", PostgreSQL's manual). The driver's
// own way would dial an address that there is not.
func (s *session) cancel(ctx context.Context) error {
	line, err := s.again(ctx)
	if err != nil {
		return err
	}
	conn := line.Conn
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = line.Conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if line.TLS != nil {
		in := &inspector{line: line, watch: func(string, string) {}}
		encrypted, _, err := in.encrypt(ctx, conn)
		if err != nil {
			return err
		}
		conn = encrypted
	}
	key := s.pg.SecretKey()
	request := binary.BigEndian.AppendUint32(nil, uint32(12+len(key)))
	request = binary.BigEndian.AppendUint32(request, 80877102)
	request = append(binary.BigEndian.AppendUint32(request, s.pg.PID()), key...)
	if _, err := conn.Write(request); err != nil {
		return err
	}
	// The server closes the connection once it has passed the request on.
	if _, err := conn.Read(make([]byte, 1)); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}

// Close implements engine.Session.
func (s *session) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if len(s.undo) > 0 && !s.pg.IsClosed() {
		_, _ = s.results(ctx, strings.Join(s.undo, "; "))
	}
	_ = s.pg.Close(ctx)
}

// failure says what an error on an open session means.
func (s *session) failure(ctx context.Context, err error) *finding.Problem {
	var refusal *pgconn.PgError
	var long *pgproto3.ExceededMaxBodyLenErr
	if errors.As(err, &long) && long.MaxExpectedBodyLen != engine.AnswerBytes {
		return engine.TooLarge(long.ActualBodyLen, long.MaxExpectedBodyLen)
	}
	if long != nil {
		return engine.TooMuch("query")
	}
	if !errors.As(err, &refusal) {
		if s.pg.IsClosed() && !finding.Silent(ctx, err) {
			err = io.EOF
		}
		return engine.Broken(ctx, "query", err)
	}
	code, known := byState[refusal.Code]
	if p := ofPooler(refusal); p != nil {
		return p
	}
	switch {
	case refusal.Code == "57P01", refusal.Code == "57P02":
		code = finding.QueryClosed // by a shutdown, or by an administrator
	case refusal.Code == "3D000":
		code = finding.QueryNoSuchBase
	case refusal.Code == "57014" && strings.Contains(refusal.Message, "timeout"):
		code = finding.QueryOverLimit
	case refusal.Code == "55006" && !strings.Contains(refusal.File, "dbcommands"):
		code = finding.QueryInUse // another thing, such as a table
	case !known || code.Leg() != "query":
		code = finding.QueryUnknown // what is about the opening of a session means something else in a statement
	}
	p := &finding.Problem{Code: code, Words: outside.Said(refusal.Message), Number: outside.Said(refusal.Code),
		Err: err, At: int(refusal.Position)}
	for _, each := range []struct{ what, text string }{
		{"detail", refusal.Detail}, {"hint", refusal.Hint}, {"context", refusal.Where},
		{"statement inside", refusal.InternalQuery},
		{"schema", refusal.SchemaName}, {"table", refusal.TableName}, {"column", refusal.ColumnName},
		{"type", refusal.DataTypeName}, {"constraint", refusal.ConstraintName},
	} {
		if each.text != "" {
			p.Beside = append(p.Beside, finding.Beside{What: each.what, Text: outside.Said(each.text)})
		}
	}
	return p
}
