package mysql

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

// Flags of a client's first packet ("Protocol::HandshakeResponse41").
const (
	clientProtocol41     = 0x200
	clientSecure         = 0x8000
	clientLengthEncoded  = 0x200000
	asksForKey           = 0x01 // sha256_password: the client's only byte
	scrambleLen          = 20
	keyBits              = 2048
	handshakeResponseMin = 32
)

// ownKey is the RSA key with which clients send their whole password to a door, for as long as
// this process lives.
var ownKey = sync.OnceValues(func() (*rsa.PrivateKey, error) { return rsa.GenerateKey(rand.Reader, keyBits) })

// Usher implements engine.Usher: it follows the connection phase of a client ("Connection Phase",
// MySQL's source documentation).
func (Engine) Usher(ctx context.Context, client net.Conn, at engine.Threshold) (*engine.Led, error) {
	c := &calling{client: client, from: bufio.NewReaderSize(client, 4<<10), at: at}
	led, err := c.lead(ctx)
	if err != nil {
		if c.wire != nil {
			_ = c.wire.Conn.Close()
		}
		c.refuse(err)
		return nil, err
	}
	return led, nil
}

// calling is a client that wants to be let in. The rules of the login are wire's, which keeps
// them for this program's own logins too.
type calling struct {
	client net.Conn
	from   *bufio.Reader // over client
	at     engine.Threshold
	wire   *wire
	// number is that of the last packet that went to the client or came from it, and theirs of
	// the server's last one, as wire counts.
	number, theirs byte
	begun          bool // a packet went to the client
	scramble       []byte
}

// refuse says to a client why it is not let in: with an error packet instead of the server's next
// one.
func (c *calling) refuse(err error) {
	if errors.Is(err, engine.ErrAway) {
		return
	}
	text := c.at.Word(err)
	payload := append([]byte{packetErr, unknownError & 0xff, unknownError >> 8}, text[:min(len(text), 500)]...)
	if c.begun {
		payload = append([]byte{packetErr, unknownError & 0xff, unknownError >> 8}, "#HY000"+text[:min(len(text), 500)]...)
	}
	_ = c.client.SetWriteDeadline(time.Now().Add(2 * time.Second))
	_ = c.tell(payload)
}

// tell sends a packet to the client.
func (c *calling) tell(body []byte) error {
	if c.begun {
		c.number++
	}
	c.begun = true
	if _, err := c.client.Write(append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16),
		c.number}, body...)); err != nil {
		return engine.ErrAway
	}
	return nil
}

// hear reads a packet of the client's.
func (c *calling) hear() ([]byte, error) {
	header := make([]byte, 4)
	if _, err := io.ReadFull(c.from, header); err != nil {
		return nil, engine.ErrAway
	}
	size := length(header)
	if size > loginLimit || header[3] != c.number+1 {
		return nil, engine.ErrOutOfTurn
	}
	c.number = header[3]
	body := make([]byte, size)
	if _, err := io.ReadFull(c.from, body); err != nil {
		return nil, engine.ErrAway
	}
	return body, nil
}

// pass sends a packet to the server, through wire, which encrypts and counts.
func (c *calling) pass(ctx context.Context, body []byte) error {
	c.theirs++
	packet := append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), c.theirs}, body...)
	done := engine.Within(ctx, c.at.Patience, c.wire.Conn)
	_, err := c.wire.Write(packet)
	return c.meant(ctx, err, done())
}

// next reads the server's next packet, as far as it may come.
func (c *calling) next(ctx context.Context) ([]byte, error) {
	done := engine.Within(ctx, c.at.Patience, c.wire.Conn)
	err := c.wire.packet()
	if err := c.meant(ctx, err, done()); err != nil {
		return nil, err
	}
	held := c.wire.held
	c.wire.held = nil
	c.theirs = held[3]
	return held[4:], nil
}

func (c *calling) meant(ctx context.Context, err error, late bool) error {
	var known *finding.Problem
	leg := "login"
	if !c.wire.greeted {
		leg = "greeting"
	}
	switch {
	case err == nil, errors.As(err, &known):
		return err
	case late:
		return engine.Silent(leg)
	}
	return engine.Broken(ctx, leg, err)
}

func (c *calling) lead(ctx context.Context) (*engine.Led, error) {
	line, _, err := c.at.Connect(ctx)
	if err != nil {
		return nil, err
	}
	line.Given = true // the client has it, no matter what it is
	line.Secret = func(string) secret.Secret { return secret.New("the client's own") }
	c.wire = &wire{Conn: line.Conn, ctx: ctx, login: c.at.Login, line: line, watch: func(string, string) {},
		driver: &mysql.Config{}}
	greeting, err := c.next(ctx)
	if err != nil {
		return nil, err
	}
	if greeting[0] == packetErr {
		_ = c.tell(greeting)
		return nil, engine.ErrAway
	}
	usable := c.wire.released || !line.Given
	shown := slices.Clone(greeting)
	if line.TLS != nil {
		shown = withoutTLS(shown)
	}
	c.scramble = scrambleOf(greeting)
	if c.wire.method == sha256 && line.TLS != nil {
		// Its first answer would be a request for a key, inside the packet with the user. Another
		// method is named, and the server names this one anew.
		shown, usable = renamed41(shown, native), false
		c.wire.released = false
	}
	if err := c.tell(shown); err != nil {
		return nil, err
	}
	first, err := c.hear()
	if err != nil {
		return nil, err
	}
	if len(first) < handshakeResponseMin {
		return nil, engine.ErrOutOfTurn
	}
	flags := binary.LittleEndian.Uint32(first)
	switch {
	case flags&clientSSL != 0 && len(first) == sslRequestLen:
		if line.TLS != nil {
			return nil, engine.ErrWantsTLS
		}
		// The server is spoken to in plain, and the client encrypts by itself: it has the server
		// for itself.
		early, _ := c.from.Peek(c.from.Buffered())
		return &engine.Led{Server: line.Conn,
			ToServer: append([]byte{sslRequestLen, 0, 0, 1}, append(first, early...)...), Leave: func() {}}, nil
	case flags&clientProtocol41 == 0:
		return nil, engine.ErrOutOfTurn
	}
	if !usable || answerLen(first) == 0 {
		c.wire.driver.Passwd = "" // so that a server which asks for nothing is known as such
	}
	if !usable {
		if first, err = withoutAnswer(first); err != nil {
			return nil, err
		}
	}
	if err := c.pass(ctx, first); err != nil {
		return nil, err
	}
	for c.wire.state != granted {
		body, err := c.next(ctx)
		if err != nil {
			return nil, err
		}
		switch kind := body[0]; {
		case kind == packetErr:
			_ = c.tell(body)
			return nil, engine.ErrAway
		case kind == packetSwitch:
			c.scramble = switchScramble(body)
			err = c.answered(ctx, body)
		case c.wire.state == showing:
			err = c.whole(ctx, body)
		case kind == packetMore && c.wire.state == lastWord && len(body) > 2: // the server's key, where nothing is encrypted
			err = c.answered(ctx, body)
		default:
			err = c.tell(body)
		}
		if err != nil {
			return nil, err
		}
	}
	led := &engine.Led{Server: c.wire.Conn, Saw: c.wire.saw, Leave: func() {}}
	if over, ok := c.wire.Conn.(*tls.Conn); ok {
		led.Certificate = engine.Describe(over.ConnectionState())
	}
	led.ToServer, _ = c.from.Peek(c.from.Buffered())
	return led, nil
}

// answered says to the client what the server wants, and passes its answer on. A client that does
// not know that its answer goes encrypted asks for a key first, with a login method that shows
// the password.
func (c *calling) answered(ctx context.Context, asked []byte) error {
	if err := c.tell(asked); err != nil {
		return err
	}
	answer, err := c.hear()
	if err != nil {
		return err
	}
	if c.wire.line.TLS != nil && c.wire.method == sha256 && len(answer) == 1 && answer[0] == asksForKey {
		return c.unsealed(ctx)
	}
	return c.pass(ctx, answer)
}

// whole has the client show its password, when the server asks for the whole of it
// (caching_sha2_password that does not know the account yet). Wire has looked before whether this
// server may see it.
func (c *calling) whole(ctx context.Context, asked []byte) error {
	if err := c.tell(asked); err != nil {
		return err
	}
	answer, err := c.hear()
	if err != nil {
		return err
	}
	if c.wire.line.TLS != nil && len(answer) == 1 && answer[0] == wantsKey {
		return c.unsealed(ctx)
	}
	return c.pass(ctx, answer)
}

// unsealed gives the client a key of this door's own, and sends the password that comes on to the
// server, inside the encryption that the client does not know of ("Caching SHA-2 Pluggable
// Authentication").
func (c *calling) unsealed(ctx context.Context) error {
	key, err := ownKey()
	if err != nil {
		return err
	}
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return err
	}
	if err := c.tell(append([]byte{packetMore},
		pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...)); err != nil {
		return err
	}
	sealed, err := c.hear()
	if err != nil {
		return err
	}
	word, err := rsa.DecryptOAEP(sha1.New(), nil, key, sealed, nil)
	if err != nil || len(c.scramble) != scrambleLen {
		return engine.ErrOutOfTurn
	}
	defer clear(word)
	for i := range word {
		word[i] ^= c.scramble[i%scrambleLen]
	}
	if len(word) == 0 || word[len(word)-1] != 0 {
		return engine.ErrOutOfTurn
	}
	return c.pass(ctx, word)
}

// afterVersion gives where a greeting's fields begin that come after the server's version: thread
// id 4, scramble 8, filler 1, capabilities 2, character set 1, status 2, capabilities 2, length
// of scramble 1, reserved 10, scramble 13, name of the login method. Wire has looked that they
// are there.
func afterVersion(greeting []byte) int { return 2 + bytes.IndexByte(greeting[1:], 0) }

// withoutTLS takes the offer of encryption out of a greeting.
func withoutTLS(greeting []byte) []byte {
	greeting[afterVersion(greeting)+14] &^= clientSSL >> 8
	return greeting
}

// scrambleOf gives the 20 bytes of a greeting's challenge.
func scrambleOf(greeting []byte) []byte {
	at := afterVersion(greeting)
	return append(slices.Clone(greeting[at+4:at+12]), greeting[at+31:at+31+12]...)
}

// switchScramble gives the challenge of a request for another login method, nil for none.
func switchScramble(body []byte) []byte {
	_, data, _ := strings.Cut(string(body[1:]), "\x00")
	if data = strings.TrimSuffix(data, "\x00"); len(data) != scrambleLen {
		return nil
	}
	return []byte(data)
}

// renamed41 gives a greeting that names another login method.
func renamed41(greeting []byte, method string) []byte {
	return append(append(greeting[:afterVersion(greeting)+44:afterVersion(greeting)+44], method...), 0)
}

// answerAt gives where the answer to the login method is in a client's first packet: its length,
// a byte, comes before it. It is -1 where the packet is none of today's clients.
func answerAt(first []byte) int {
	flags := binary.LittleEndian.Uint32(first)
	end := bytes.IndexByte(first[handshakeResponseMin:], 0)
	if end < 0 || flags&clientSecure == 0 && flags&clientLengthEncoded == 0 {
		return -1
	}
	at := handshakeResponseMin + end + 1
	if at >= len(first) || first[at] > 250 || at+1+int(first[at]) > len(first) {
		return -1
	}
	return at
}

// answerLen gives how long the answer is, -1 where that cannot be read.
func answerLen(first []byte) int {
	if at := answerAt(first); at >= 0 {
		return int(first[at])
	}
	return -1
}

// withoutAnswer takes the answer out of a client's first packet: the method that the greeting
// named is not accepted, or not the server's own. A server names the account's own method then.
func withoutAnswer(first []byte) ([]byte, error) {
	at := answerAt(first)
	if at < 0 {
		return nil, engine.ErrOutOfTurn
	}
	return append(append(slices.Clone(first[:at]), 0), first[at+1+int(first[at]):]...), nil
}
