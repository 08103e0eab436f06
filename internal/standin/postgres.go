package standin

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
)

// postgresConn is one client of a practice server that speaks PostgreSQL's protocol 3.0.
type postgresConn struct {
	server  *Server
	conn    net.Conn
	number  uint32
	backend *pgproto3.Backend
	as      identity

	statements int
}

// after misbehaves at a statement after the first, as the faults ask for; false when they do not.
func (c *postgresConn) after() bool {
	head := append([]byte{'T', 0, 0, 0, 27, 0, 1, 'x', 0}, 0, 0, 0, 0, 0, 0, 0, 0, 0, 25, 0xff, 0xff, 0xff,
		0xff, 0xff, 0xff, 0, 0)
	head[4] = byte(len(head) - 1)
	switch c.server.config.Faults.After {
	case "silence":
		wait(c.conn)
	case "endless":
		_, _ = c.conn.Write(head)
		flood(c.conn, []byte{'D', 0, 0, 0, 11, 0, 1, 0, 0, 0, 1, 'x'})
	case "giant":
		_, _ = c.conn.Write(append(head, 'D', 0x3f, 0xff, 0xff, 0xff, 0, 1, 0x3f, 0xff, 0xff, 0xf5))
		flood(c.conn, []byte("x"))
	default:
		return false
	}
	return true
}

func (c *postgresConn) serve() {
	user, database, ok := c.start()
	if !ok {
		return
	}
	c.as = identity{user: user, database: database, client: "127.0.0.1", number: c.number}
	c.server.open(database)
	f := c.server.config.Faults
	switch {
	case f.StallLogin:
		c.backend.Send(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"SCRAM-SHA-256"}})
		_ = c.backend.Flush()
		wait(c.conn)
		return
	case f.Refusal != "":
		c.refuse(f.Refusal, c.server.words("refused for practice", user), "")
		return
	case f.StartingUp:
		c.refuse("57P03", c.server.words("this practice server is starting up", user), "")
		return
	case f.TooMany:
		c.refuse("53300", c.server.words("this practice server has no room for another connection", user), "")
		return
	}
	if !c.login(user) {
		return
	}
	if !c.server.has(database) {
		c.refuse("3D000", noDatabase(database), "")
		return
	}
	c.backend.Send(&pgproto3.ParameterStatus{Name: "server_version", Value: "16.0 (practice)"})
	c.backend.Send(&pgproto3.ParameterStatus{Name: "client_encoding", Value: "UTF8"})
	c.backend.Send(&pgproto3.ParameterStatus{Name: "standard_conforming_strings", Value: "on"})
	number := c.number
	if c.server.config.Faults.Pooled {
		number += 1000
	}
	c.backend.Send(&pgproto3.BackendKeyData{ProcessID: number, SecretKey: []byte{1, 2, 3, 4}})
	c.ready()
	for c.backend.Flush() == nil && c.answer() {
	}
}

func (c *postgresConn) ready() {
	state := byte('I')
	if c.server.data.inTransaction(c.as.number) {
		state = 'T'
	}
	c.backend.Send(&pgproto3.ReadyForQuery{TxStatus: state})
}

// start reads the client's first messages, encrypting where it asks and that is on offer.
func (c *postgresConn) start() (user, database string, ok bool) {
	c.backend = pgproto3.NewBackend(c.conn, c.conn)
	for range 3 {
		message, err := c.backend.ReceiveStartupMessage()
		if err != nil {
			return "", "", false
		}
		switch m := message.(type) {
		case *pgproto3.StartupMessage:
			user, database = m.Parameters["user"], m.Parameters["database"]
			if database == "" {
				database = user
			}
			return user, database, true
		case *pgproto3.SSLRequest:
			if c.server.config.TLS == nil {
				_, _ = c.conn.Write([]byte("N"))
				continue
			}
			_, _ = c.conn.Write([]byte("S"))
			encrypted := tls.Server(c.conn, c.server.config.TLS)
			if encrypted.Handshake() != nil {
				return "", "", false
			}
			c.conn = encrypted
			c.backend = pgproto3.NewBackend(c.conn, c.conn)
		default:
			_, _ = c.conn.Write([]byte("N"))
		}
	}
	return "", "", false
}

// refuse ends the login with an error. Routine is the field R of an error (PostgreSQL's "Error
// and Notice Message Fields"): one error code, 28000, is sent for several reasons, and the
// routine of the server that reports it is what a client can know them by in any language. It is
// sent where a client reads it.
func (c *postgresConn) refuse(state, message, routine string) {
	c.backend.Send(&pgproto3.ErrorResponse{Severity: "FATAL", SeverityUnlocalized: "FATAL", Code: state,
		Message: message, Routine: routine})
	_ = c.backend.Flush()
}

func (c *postgresConn) login(user string) bool {
	password, known := c.server.account(user)
	refuse := func() bool {
		c.refuse("28P01", c.server.words(fmt.Sprintf("the practice server does not accept %q with this password",
			user), user), "auth_failed")
		return false
	}
	if c.server.config.Faults.AskNothing {
		c.backend.Send(&pgproto3.AuthenticationOk{})
		return true
	}
	if c.server.config.Faults.AskClear {
		c.backend.Send(&pgproto3.AuthenticationCleartextPassword{})
		if c.backend.SetAuthType(pgproto3.AuthTypeCleartextPassword) != nil || c.backend.Flush() != nil {
			return false
		}
		message, err := c.backend.Receive()
		shown, ok := message.(*pgproto3.PasswordMessage)
		if err != nil || !ok {
			return false
		}
		c.server.show(shown.Password)
		if !known || shown.Password != password {
			return refuse()
		}
	} else if good, err := c.scram(user, password, known); err != nil {
		return false
	} else if !good {
		return refuse()
	}
	if c.server.config.Faults.Locked {
		c.refuse("28000", c.server.words(fmt.Sprintf("the practice role %q is not permitted to log in", user),
			user), "InitializeSessionUserId")
		return false
	}
	if c.server.config.Faults.ErrorText != "" {
		return refuse()
	}
	c.backend.Send(&pgproto3.AuthenticationOk{})
	return true
}

// scram holds the server's side of SCRAM-SHA-256 (RFC 5802, RFC 7677), without channel binding.
func (c *postgresConn) scram(user, password string, known bool) (bool, error) {
	c.backend.Send(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"SCRAM-SHA-256"}})
	if err := c.backend.SetAuthType(pgproto3.AuthTypeSASL); err != nil {
		return false, err
	}
	if err := c.backend.Flush(); err != nil {
		return false, err
	}
	message, err := c.backend.Receive()
	first, ok := message.(*pgproto3.SASLInitialResponse)
	if err != nil || !ok {
		return false, errors.New("no first message")
	}
	_, bare, ok := strings.Cut(string(first.Data), ",,")
	_, nonce, hasNonce := strings.Cut(bare, ",r=")
	if !ok || !hasNonce {
		return false, errors.New("a malformed first message")
	}
	salt, more := make([]byte, 16), make([]byte, 18)
	_, _ = rand.Read(salt)
	_, _ = rand.Read(more)
	rounds := 4096
	if n := c.server.config.Faults.Rounds; n != 0 {
		rounds = n
	}
	serverFirst := fmt.Sprintf("r=%s%s,s=%s,i=%d", nonce, base64.StdEncoding.EncodeToString(more),
		base64.StdEncoding.EncodeToString(salt), rounds)
	c.backend.Send(&pgproto3.AuthenticationSASLContinue{Data: []byte(serverFirst)})
	if err := c.backend.SetAuthType(pgproto3.AuthTypeSASLContinue); err != nil {
		return false, err
	}
	if err := c.backend.Flush(); err != nil {
		return false, err
	}
	message, err = c.backend.Receive()
	final, ok := message.(*pgproto3.SASLResponse)
	if err != nil || !ok {
		return false, errors.New("no final message")
	}
	switch c.server.config.Faults.Unproven {
	case "no proof":
		return true, nil
	case "wrong proof":
		c.backend.Send(&pgproto3.AuthenticationSASLFinal{Data: []byte("v=" + base64.StdEncoding.EncodeToString(salt))})
		return true, nil
	}
	withoutProof, proofText, ok := strings.Cut(string(final.Data), ",p=")
	if !ok {
		return false, errors.New("a malformed final message")
	}
	proof, err := base64.StdEncoding.DecodeString(proofText)
	if err != nil || len(proof) != sha256.Size {
		return false, errors.New("a malformed proof")
	}
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return false, err
	}
	transcript := bare + "," + serverFirst + "," + withoutProof
	clientKey := mac(salted, "Client Key")
	stored := sha256.Sum256(clientKey)
	signature := mac(stored[:], transcript)
	subtle.XORBytes(proof, proof, signature)
	if !known || !hmac.Equal(proof, clientKey) {
		return false, nil
	}
	verifier := "v=" + base64.StdEncoding.EncodeToString(mac(mac(salted, "Server Key"), transcript))
	c.backend.Send(&pgproto3.AuthenticationSASLFinal{Data: []byte(verifier)})
	return true, nil
}

func mac(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

// answer serves one message; false ends the session.
func (c *postgresConn) answer() bool {
	message, err := c.backend.Receive()
	if err != nil {
		return false
	}
	switch m := message.(type) {
	case *pgproto3.Query:
		if c.statements++; c.statements > 1 && c.after() {
			return false
		}
		r, err := c.server.statement(c.conn, c.as, m.String)
		if errors.Is(err, errStalled) {
			return false
		}
		if err != nil {
			c.complain(err, m.String)
		} else {
			c.describe(r)
			c.rows(r)
		}
		c.ready()
	case *pgproto3.Parse:
		return c.extended(m)
	case *pgproto3.Sync:
		c.ready()
	case *pgproto3.Terminate:
		return false
	}
	return true
}

// extended serves a statement that comes in steps (Parse, Bind, Describe, Execute, Sync). One
// with places for values runs when it has them.
func (c *postgresConn) extended(parse *pgproto3.Parse) bool {
	text := parse.Query
	wanted := make([]uint32, places(text))
	for i := range wanted {
		if wanted[i] = 25; i < len(parse.ParameterOIDs) && parse.ParameterOIDs[i] != 0 {
			wanted[i] = parse.ParameterOIDs[i]
		}
	}
	r, failure, copies := result{}, error(errSeveral), false
	if !several(text) {
		if failure = nil; strings.HasPrefix(strings.ToLower(strings.TrimSpace(text)), "copy ") {
			copies = true
		} else if len(wanted) == 0 {
			r, failure = c.server.statement(c.conn, c.as, text)
		}
	}
	if errors.Is(failure, errStalled) {
		return false
	}
	if failure != nil {
		c.complain(failure, text)
	} else {
		c.backend.Send(&pgproto3.ParseComplete{})
	}
	for {
		message, err := c.backend.Receive()
		if err != nil {
			return false
		}
		if _, ok := message.(*pgproto3.Sync); ok {
			c.ready()
			return true
		}
		if _, ok := message.(*pgproto3.Flush); ok { // what was said so far is wanted now
			if c.backend.Flush() != nil {
				return false
			}
			continue
		}
		if failure != nil {
			continue
		}
		switch m := message.(type) {
		case *pgproto3.Bind:
			if len(wanted) > 0 {
				if len(m.Parameters) != len(wanted) {
					return false
				}
				values := make([]any, len(wanted))
				for i, value := range m.Parameters {
					values[i] = valueOf(value, wanted[i])
				}
				if r, failure = c.server.statement(c.conn, c.as, text, values...); failure != nil {
					c.complain(failure, text)
					continue
				}
			}
			c.backend.Send(&pgproto3.BindComplete{})
		case *pgproto3.Describe:
			if m.ObjectType == 'S' {
				c.backend.Send(&pgproto3.ParameterDescription{ParameterOIDs: wanted})
			}
			if r.columns == nil {
				c.backend.Send(&pgproto3.NoData{})
			} else {
				c.describe(r)
			}
		case *pgproto3.Execute:
			if !copies {
				c.rows(r)
				continue
			}
			n, err := c.copyIn(text)
			if failure = err; err != nil {
				c.complain(err, text)
				continue
			}
			c.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte(fmt.Sprintf("COPY %d", n))})
			if c.backend.Flush() != nil {
				return false
			}
		case *pgproto3.Terminate:
			return false
		}
	}
}

// valueOf gives a parameter as SQLite takes it.
func valueOf(text []byte, oid uint32) any {
	if text == nil {
		return nil
	}
	switch oid {
	case 20, 21, 23:
		if n, err := strconv.ParseInt(string(text), 10, 64); err == nil {
			return n
		}
	case 700, 701, 1700:
		if f, err := strconv.ParseFloat(string(text), 64); err == nil {
			return f
		}
	case 16:
		return map[bool]int64{true: 1}[string(text) == "true"]
	}
	return string(text)
}

func (c *postgresConn) complain(err error, text string) {
	state, _, words := problem(err)
	refusal := &pgproto3.ErrorResponse{Severity: "ERROR", SeverityUnlocalized: "ERROR", Code: state,
		Message: words, Position: int32(whereIn(err, text))}
	var row *inRow
	if errors.As(err, &row) {
		refusal.Where, refusal.Position = row.where, 0
	}
	c.backend.Send(refusal)
}

func (c *postgresConn) describe(r result) {
	if r.columns == nil {
		return
	}
	fields := make([]pgproto3.FieldDescription, len(r.columns))
	for i, name := range r.columns {
		fields[i] = pgproto3.FieldDescription{Name: []byte(name), DataTypeOID: 25, DataTypeSize: -1, TypeModifier: -1}
		for _, row := range r.rows {
			switch row[i].(type) {
			case int64:
				fields[i].DataTypeOID, fields[i].DataTypeSize = 20, 8
			case float64:
				fields[i].DataTypeOID, fields[i].DataTypeSize = 701, 8
			}
			if row[i] != nil {
				break
			}
		}
	}
	c.backend.Send(&pgproto3.RowDescription{Fields: fields})
}

func (c *postgresConn) rows(r result) {
	for _, row := range r.rows {
		values := make([][]byte, len(row))
		for i, value := range row {
			if value != nil {
				values[i] = []byte(plain(value))
			}
		}
		c.backend.Send(&pgproto3.DataRow{Values: values})
	}
	tag := strings.ToUpper(r.verb)
	switch r.verb {
	case "select":
		tag += " " + strconv.Itoa(len(r.rows))
	case "insert":
		tag += " 0 " + strconv.FormatInt(r.affected, 10)
	case "update", "delete":
		tag += " " + strconv.FormatInt(r.affected, 10)
	}
	c.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
}

// plain writes a value of SQLite's as text.
func plain(value any) string {
	switch v := value.(type) {
	case []byte:
		return string(v)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(value)
}
