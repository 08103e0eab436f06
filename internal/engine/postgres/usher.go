package postgres

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// tlsHandshake is the first byte of a client that speaks TLS immediately (RFC 8446, section 5.1).
const tlsHandshake = 0x16

// maxAnswer bounds each message of a client's until it is let in.
const maxAnswer = 64 << 10

// Usher implements engine.Usher: it follows the start-up of a client ("Message Flow" in
// PostgreSQL's manual).
func (Engine) Usher(ctx context.Context, client net.Conn, at engine.Threshold) (*engine.Led, error) {
	c := &calling{client: client, from: bufio.NewReaderSize(client, 4<<10), at: at}
	defer func() {
		if c.kept {
			return
		}
		if c.server != nil {
			_ = c.server.Close()
		}
	}()
	led, err := c.lead(ctx)
	if err != nil {
		c.refuse(err)
		return nil, err
	}
	c.kept = led.Server != nil
	return led, nil
}

// calling is a client that wants to be let in.
type calling struct {
	client net.Conn
	from   *bufio.Reader // over client
	at     engine.Threshold
	server net.Conn
	kept   bool // the server's connection is handed on
	begun  bool // the client has sent a start-up message, so that it understands an error
}

// refuse says to a client why it is not let in.
func (c *calling) refuse(err error) {
	if !c.begun || errors.Is(err, engine.ErrAway) {
		return
	}
	_ = c.client.SetWriteDeadline(time.Now().Add(2 * time.Second))
	_, _ = c.client.Write(errorMessage(c.at.Word(err)))
}

func (c *calling) lead(ctx context.Context) (*engine.Led, error) {
	asked := map[uint32]bool{}
	for {
		if first, err := c.from.Peek(1); err != nil {
			if asked[sslRequest] {
				return nil, engine.ErrWantsTLS // it left when it heard that there is none
			}
			return nil, engine.ErrAway
		} else if first[0] == tlsHandshake {
			return nil, engine.ErrWantsTLS
		}
		head, err := c.from.Peek(8)
		if err != nil {
			return nil, engine.ErrAway
		}
		size, code := binary.BigEndian.Uint32(head), binary.BigEndian.Uint32(head[4:])
		switch {
		case (code == sslRequest || code == gssRequest) && size == 8 && !asked[code]:
			asked[code] = true
			_, _ = c.from.Discard(8)
			if c.from.Buffered() > 0 {
				return nil, engine.ErrOutOfTurn // it would be taken for part of what comes encrypted
			}
			if led, err := c.unencrypted(ctx, code); led != nil || err != nil {
				return led, err
			}
		case code == cancelRequest && size >= 12 && size <= 12+256:
			return nil, c.cancel(ctx, int(size))
		case code>>16 == 3 && size >= 8 && size <= maxStartup:
			return c.startUp(ctx, int(size))
		default:
			return nil, engine.ErrOutOfTurn
		}
	}
}

// unencrypted answers a request for encryption: there is none at a door that encrypts by itself.
// Where the server is spoken to in plain, the client may encrypt as it likes, and then has the
// server for itself.
func (c *calling) unencrypted(ctx context.Context, code uint32) (*engine.Led, error) {
	answer := []byte{'N'}
	if code == sslRequest && !c.at.Encrypts {
		// A server that cannot be reached is told of after the start-up message, where the client
		// understands an error.
		if _, _, err := c.connect(ctx); err == nil {
			done := engine.Within(ctx, c.at.Patience, c.server)
			_, err := c.server.Write(binary.BigEndian.AppendUint32([]byte{0, 0, 0, 8}, sslRequest))
			if err == nil {
				_, err = io.ReadFull(c.server, answer)
			}
			if done() {
				return nil, engine.Silent("greeting")
			}
			if err != nil {
				return nil, engine.Broken(ctx, "greeting", err)
			}
			if answer[0] != 'N' {
				return &engine.Led{Server: c.server, ToClient: answer, Leave: func() {}}, nil
			}
		}
	}
	if _, err := c.client.Write(answer); err != nil {
		return nil, engine.ErrAway
	}
	return nil, nil
}

// connect connects to the server; the same connection is given each time.
func (c *calling) connect(ctx context.Context) (engine.Line, route.Address, error) {
	line, at, err := c.at.Connect(ctx)
	if err == nil {
		c.server = line.Conn
	}
	return line, at, err
}

// encrypted asks a server for encryption, where a line is to be encrypted, and makes it.
func (c *calling) encrypted(ctx context.Context, line engine.Line) (conn net.Conn, saw string, err error) {
	if line.TLS == nil {
		return line.Conn, "", nil
	}
	done := engine.Within(ctx, c.at.Patience, line.Conn)
	in := &inspector{line: line, watch: func(string, string) {}}
	over, saw, err := in.encrypt(ctx, line.Conn)
	if late := done(); err != nil {
		if late {
			err = engine.Silent("tls")
		}
		return line.Conn, "", err
	}
	return over, saw, nil
}

// cancel passes a request to cancel on to the server that has the session, encrypted as the
// session is. A key that is no session's of this door leads nowhere.
func (c *calling) cancel(ctx context.Context, size int) error {
	message := make([]byte, size)
	if _, err := io.ReadFull(c.from, message); err != nil {
		return engine.ErrAway
	}
	at, known := c.at.Keys.At(string(message[8:]))
	if !known {
		return engine.ErrAway
	}
	line, err := c.at.Back(ctx, at)
	if err != nil {
		return err
	}
	defer line.Close()
	conn, _, err := c.encrypted(ctx, line)
	if err != nil {
		return err
	}
	defer done(engine.Within(ctx, c.at.Patience, line.Conn))
	if _, err := conn.Write(message); err == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(conn, 1)) // it closes when it has done so
	}
	return engine.ErrAway
}

func done(stop func() bool) { stop() }

// startUp follows a client from its start-up message until the server is ready for statements.
func (c *calling) startUp(ctx context.Context, size int) (*engine.Led, error) {
	message := make([]byte, size)
	if _, err := io.ReadFull(c.from, message); err != nil {
		return nil, engine.ErrAway
	}
	c.begun = true
	line, at, err := c.connect(ctx)
	if err != nil {
		return nil, err
	}
	conn, saw, err := c.encrypted(ctx, line)
	if err != nil {
		return nil, err
	}
	led := &engine.Led{Server: conn, Saw: saw, Leave: func() {}}
	if over, ok := conn.(*tls.Conn); ok {
		led.Certificate = engine.Describe(over.ConnectionState())
	}
	// The client has no channel to bind its login to: to it, the server's line is not encrypted.
	line.TLS, line.Given = nil, true
	in := &inspector{login: c.at.Login, line: line, watch: func(string, string) {}, driver: &pgconn.Config{},
		raw: conn, from: bufio.NewReaderSize(conn, 4<<10), to: io.Discard}
	if _, err := conn.Write(message); err != nil {
		return nil, engine.Broken(ctx, "login", err)
	}
	for in.state != open {
		done := engine.Within(ctx, c.at.Patience, line.Conn)
		before := in.state
		err := in.next()
		late := done()
		var known *finding.Problem
		switch {
		case err != nil && late:
			return nil, engine.Silent("login")
		case errors.As(err, &known):
			return nil, known
		case err != nil:
			return nil, engine.Broken(ctx, "login", err)
		}
		message := withoutBinding(in.held)
		if message[0] == 'K' {
			led.Leave = c.at.Keys.Hold(string(message[5:]), at)
		}
		if _, err := c.client.Write(message); err != nil {
			led.Leave()
			return nil, engine.ErrAway
		}
		if message[0] == 'E' {
			led.Leave()
			return nil, engine.ErrAway // the server has said why
		}
		if in.state != before && in.state < verified {
			if err := c.answer(conn, in.state == exchange); err != nil {
				return nil, err
			}
		}
	}
	led.ToClient, _ = in.from.Peek(in.from.Buffered())
	led.ToServer, _ = c.from.Peek(c.from.Buffered())
	return led, nil
}

// answer passes a client's answer to a login method on. First says that it begins SASL, and so
// names a mechanism.
func (c *calling) answer(to net.Conn, first bool) error {
	head, err := c.from.Peek(5)
	if err != nil {
		return engine.ErrAway
	}
	size := binary.BigEndian.Uint32(head[1:])
	switch {
	case head[0] == 'X':
		return engine.ErrAway
	case head[0] != 'p' || size < 4 || size > maxAnswer:
		return engine.ErrOutOfTurn
	}
	message := make([]byte, 1+size)
	if _, err := io.ReadFull(c.from, message); err != nil {
		return engine.ErrAway
	}
	if first && strings.HasPrefix(string(message[5:]), scramPlus+"\x00") {
		return engine.ErrWantsBinding
	}
	if _, err := to.Write(message); err != nil {
		return engine.Broken(context.Background(), "login", err)
	}
	return nil
}

// withoutBinding takes the mechanism that is bound to a channel out of a server's list: at a door
// a client has no channel to bind to.
func withoutBinding(message []byte) []byte {
	if message[0] != 'R' || len(message) < 9 || binary.BigEndian.Uint32(message[5:]) != authSASL {
		return message
	}
	offered := strings.Split(strings.TrimRight(string(message[9:]), "\x00"), "\x00")
	offered = slices.DeleteFunc(offered, func(name string) bool { return name == scramPlus })
	body := append(slices.Clone(message[5:9]), strings.Join(offered, "\x00")+"\x00\x00"...)
	return append(binary.BigEndian.AppendUint32([]byte{'R'}, uint32(4+len(body))), body...)
}
