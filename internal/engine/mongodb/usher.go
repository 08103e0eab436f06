package mongodb

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// opQuery is the kind of message in which older clients, and most at their first word, ask for
// the greeting; opReply is the answer to it.
const (
	opQuery = 2004
	opReply = 1
	// opCompressed wraps a message of another kind.
	opCompressed = 2012
)

// mostLogin bounds a message of a client's that is about a login.
const mostLogin = 64 << 10

// hostUnreachable is the number of a refusal at a door ("Error Codes", the server's manual).
const hostUnreachable = 6

// Refuse implements engine.Refuser: it answers what a client asks with an error.
func (Engine) Refuse(conn net.Conn, text string) {
	head := make([]byte, headerSize) // a server speaks when it is spoken to
	if _, err := io.ReadFull(conn, head); err == nil {
		refuse(conn, head, text)
	}
}

func refuse(client net.Conn, asked []byte, text string) {
	body, err := bson.Marshal(bson.D{{Key: "ok", Value: 0.0},
		{Key: "errmsg", Value: text[:min(len(text), 500)]}, {Key: "code", Value: hostUnreachable},
		{Key: "codeName", Value: "HostUnreachable"}})
	if err != nil {
		return
	}
	to, put := int32(binary.LittleEndian.Uint32(asked[4:])), binary.LittleEndian
	m := message(1, to, body)
	if put.Uint32(asked[12:]) == opQuery {
		m = append(make([]byte, headerSize+20), body...)
		put.PutUint32(m, uint32(len(m)))
		put.PutUint32(m[8:], uint32(to))
		put.PutUint32(m[12:], opReply)
		put.PutUint32(m[headerSize:], 2)    // an error
		put.PutUint32(m[headerSize+16:], 1) // one document
	}
	_ = client.SetWriteDeadline(time.Now().Add(2 * time.Second))
	_, _ = client.Write(m)
}

// Usher implements engine.Usher. With TLS the encryption is before all that is said, so that a
// client's words go on as they are; but for those about a login, whose method is judged as long
// as the client is there.
func (Engine) Usher(ctx context.Context, client net.Conn, at engine.Threshold) (*engine.Led, error) {
	head := make([]byte, headerSize)
	if _, err := io.ReadFull(client, head[:3]); err != nil {
		return nil, engine.ErrAway
	}
	if head[0] == 0x16 && head[1] == 3 { // a ClientHello (RFC 8446, section 5.1)
		return nil, engine.ErrWantsTLS
	}
	if _, err := io.ReadFull(client, head[3:]); err != nil {
		return nil, engine.ErrAway
	}
	if op := binary.LittleEndian.Uint32(head[12:]); op != opMsg && op != opQuery {
		return nil, engine.ErrOutOfTurn
	}
	led, err := usher(ctx, client, at)
	if err != nil {
		if !errors.Is(err, engine.ErrAway) {
			refuse(client, head, at.Word(err))
		}
		return nil, err
	}
	led.ToServer = head
	return led, nil
}

func usher(ctx context.Context, client net.Conn, at engine.Threshold) (*engine.Led, error) {
	line, _, err := at.Connect(ctx)
	if err != nil {
		return nil, err
	}
	led := &engine.Led{Leave: func() {}}
	server := line.Conn
	if line.TLS != nil {
		done := engine.Within(ctx, at.Patience, line.Conn)
		encrypted, saw, err := engine.Encrypt(ctx, line.Conn, line.TLS)
		if late := done(); late {
			err = engine.Silent("tls")
		}
		if err != nil {
			_ = line.Close()
			return nil, err
		}
		server, led.Saw, led.Certificate = encrypted, saw, engine.Describe(encrypted.ConnectionState())
	}
	led.Server = &judged{Conn: server, client: client, accepts: func(method string) error {
		switch {
		case !at.Login.Accepts(method):
			return &finding.Problem{Code: finding.LoginMethodNotSupported,
				Facts: finding.Facts{finding.FactMethod: method,
					finding.FactAccepted: strings.Join(at.Login.Methods, ", ")}}
		case method != scram256 && method != scram1 && method != certificate && !line.MayShow:
			return &finding.Problem{Code: finding.LoginWouldShowPassword, Facts: finding.Facts{finding.FactMethod: method}}
		}
		return nil
	}, word: at.Word}
	return led, nil
}

// judged is a connection to a server for a client whose logins are judged by their method: a
// message that begins one is held until it is whole, and not sent where the method is not
// accepted. All else goes on as it comes.
type judged struct {
	net.Conn
	client  net.Conn
	accepts func(method string) error
	word    func(error) string

	mu   sync.Mutex
	held []byte // of a message, until it is known what it is
	rest int    // of a message that goes on as it comes
	err  error
}

// errJudged ends a client whose login would not be accepted.
var errJudged = errors.New("the client's login method is not accepted here")

// errCompressed is for a client that compresses what it says.
var errCompressed = errors.New("a client compresses what it says, so that the door cannot see by which method " +
	"it logs in; switch the compression off in the client, or open the door with --pass-through")

// beginning is how much of a message says what it is: its header, and the document's first name.
const beginning = headerSize + 4 + 1 + 4 + 1 + 64

// Write implements net.Conn.
func (j *judged) Write(p []byte) (int, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for from := p; len(from) > 0 && j.err == nil; {
		if j.rest > 0 {
			n, err := j.Conn.Write(from[:min(len(from), j.rest)])
			from, j.rest, j.err = from[n:], j.rest-n, err
			continue
		}
		need := headerSize
		if len(j.held) >= headerSize {
			need = j.needs()
		}
		take := min(len(from), need-len(j.held))
		j.held, from = append(j.held, from[:take]...), from[take:]
		if len(j.held) < headerSize || len(j.held) < j.needs() {
			continue
		}
		j.pass()
	}
	if j.err != nil {
		return 0, j.err
	}
	return len(p), nil
}

// size gives how long the held message is, as it says itself.
func (j *judged) size() int {
	return max(int(binary.LittleEndian.Uint32(j.held)), headerSize)
}

// needs gives how much of the held message has to be there: its beginning, and all of it where it
// is about a login, or asks for the greeting.
func (j *judged) needs() int {
	size := j.size()
	if len(j.held) < min(size, beginning) {
		return min(size, beginning)
	}
	if j.about() && size <= mostLogin {
		return size
	}
	return len(j.held)
}

// about reports whether the held message can be about a login.
func (j *judged) about() bool {
	if op := binary.LittleEndian.Uint32(j.held[12:]); op != opMsg && op != opQuery {
		return op == opCompressed
	}
	doc := j.document()
	if len(doc) < 6 {
		return true
	}
	name, _, whole := strings.Cut(string(doc[5:min(len(doc), 5+64)]), "\x00")
	lower := strings.ToLower(name)
	return !whole || strings.HasPrefix(lower, "sasl") || lower == "authenticate" || lower == "hello" ||
		lower == "ismaster" || strings.HasPrefix(lower, "$")
}

// document gives what is there of the held message's document.
func (j *judged) document() []byte {
	switch binary.LittleEndian.Uint32(j.held[12:]) {
	case opMsg: // flags, and a part that is a document
		if len(j.held) > headerSize+5 && j.held[headerSize+4] == kindBody {
			return j.held[headerSize+5:]
		}
	case opQuery: // flags, a collection's name, and two numbers
		if len(j.held) > headerSize+4 {
			if _, rest, is := strings.Cut(string(j.held[headerSize+4:]), "\x00"); is && len(rest) > 8 {
				return []byte(rest[8:])
			}
		}
	}
	return nil
}

// pass sends the held message, or as much as is there, where it begins no login that is not
// accepted.
func (j *judged) pass() {
	size := j.size()
	if j.about() {
		if err := j.judge(size); err != nil {
			refuse(j.client, j.held, j.word(err))
			j.err = errJudged
			return
		}
	}
	_, j.err = j.Conn.Write(j.held)
	j.rest, j.held = size-len(j.held), nil
}

// judge gives why a message is not sent on, nil where it is.
func (j *judged) judge(size int) error {
	if binary.LittleEndian.Uint32(j.held[12:]) == opCompressed {
		return errCompressed
	}
	doc := bson.Raw(j.document())
	parts := mostParts
	if size > mostLogin || len(doc) < 5 {
		return engine.ErrOutOfTurn
	}
	if n := int(binary.LittleEndian.Uint32(doc)); n > len(doc) || n < 5 || bounded(doc[:n], 1, &parts) != nil {
		return engine.ErrOutOfTurn
	} else {
		doc = doc[:n]
	}
	within := func(of bson.Raw, name string) bson.Raw {
		inner, _ := of.Lookup(name).DocumentOK()
		return inner
	}
	wrapped := within(doc, "$query")
	for _, at := range []bson.Raw{doc, wrapped, within(doc, "speculativeAuthenticate"),
		within(wrapped, "speculativeAuthenticate")} {
		for _, begins := range []string{"saslStart", "authenticate"} {
			if _, err := at.LookupErr(begins); err != nil {
				continue
			}
			method, _ := at.Lookup("mechanism").StringValueOK()
			if err := j.accepts(method); err != nil {
				return err
			}
		}
	}
	return nil
}
