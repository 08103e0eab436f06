package postgres

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/route"
)

// ushered leads a client that says some bytes to a server that says others, and gives what each
// was told. Ends has both hang up when they have said it.
func ushered(t *testing.T, fromClient, fromServer []byte, mayShow, ends bool) (led *engine.Led, told,
	asked string, err error) {
	t.Helper()
	client, ours := net.Pipe()
	server, theirs := net.Pipe()
	heard, got := make(chan string, 1), make(chan string, 1)
	listen := func(conn net.Conn, into chan string) {
		text, _ := io.ReadAll(io.LimitReader(conn, 1<<20))
		into <- string(text)
	}
	go listen(client, heard)
	go listen(server, got)
	say := func(conn net.Conn, words []byte) {
		if _, _ = conn.Write(words); ends {
			_ = conn.Close()
		}
	}
	go say(client, fromClient)
	go say(server, fromServer)
	led, err = Engine{}.Usher(t.Context(), ours, engine.Threshold{
		Connect: func(context.Context) (engine.Line, route.Address, error) {
			return engine.Line{Conn: theirs, MayShow: mayShow}, route.Address{}, nil
		},
		Back: func(context.Context, route.Address) (engine.Line, error) { return engine.Line{Conn: theirs}, nil },
		Keys: &engine.Keys{}, Word: func(err error) string { return err.Error() }, Patience: time.Second,
	})
	_, _ = ours.Close(), theirs.Close()
	return led, <-heard, <-got, err
}

func startUpMessage(words string) []byte {
	return append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(8+len(words))), 3<<16), words...)
}

func serverMessage(kind byte, body string) string {
	return string(binary.BigEndian.AppendUint32([]byte{kind}, uint32(4+len(body)))) + body
}

// TestUsher follows logins with each method: what may not be shown is refused before the client
// is asked for it.
func TestUsher(t *testing.T) {
	first := startUpMessage("user\x00warden_app\x00\x00")
	answer := serverMessage('p', "word\x00")
	ready := serverMessage('R', "\x00\x00\x00\x00") + serverMessage('K', "12345678") + serverMessage('Z', "I")
	for name, c := range map[string]struct {
		client, server string
		mayShow        bool
		in             bool
		tells          string // what the client is told holds it
		never          string // what the server is never sent
	}{
		"nothing asked":        {string(first), ready, false, true, "12345678", ""},
		"in clear, and it may": {string(first) + answer, serverMessage('R', "\x00\x00\x00\x03") + ready, true, true, "", ""},
		"in clear, and may not": {string(first) + answer, serverMessage('R', "\x00\x00\x00\x03") + ready, false,
			false, "would-show-password", "word"},
		"MD5": {string(first) + answer, serverMessage('R', "\x00\x00\x00\x05salt") + ready,
			false, true, "", ""},
		"Kerberos": {string(first) + answer, serverMessage('R', "\x00\x00\x00\x07") + ready, false,
			false, "method-not-supported", "word"},
		"refused": {string(first), serverMessage('E', "SFATAL\x00C28000\x00Mno\x00\x00"), false,
			false, "C28000", ""},
		"binding alone": {string(first) + answer,
			serverMessage('R', "\x00\x00\x00\x0aSCRAM-SHA-256-PLUS\x00\x00") + ready, false, false,
			"method-not-supported", "word"},
		"a message that cannot": {string(first), serverMessage('T', "rows"), false, false, "malformed", ""},
	} {
		led, told, asked, err := ushered(t, []byte(c.client), []byte(c.server), c.mayShow, false)
		if (err == nil) != c.in || c.in && led.Server == nil ||
			!strings.Contains(told, c.tells) &&
				!(c.tells == "would-show-password" || c.tells == "method-not-supported" || c.tells == "malformed") {
			t.Errorf("%s: %v, told %q", name, err, told)
		}
		if !c.in && c.tells != "C28000" && (err == nil || !strings.HasPrefix(told, "E")) {
			t.Errorf("%s: %v, told %q", name, err, told)
		}
		if c.never != "" && strings.Contains(asked, c.never) {
			t.Errorf("%s: the server was sent %q", name, asked)
		}
	}
}

func FuzzUsher(f *testing.F) {
	f.Add(startUpMessage("user\x00u\x00\x00"), []byte(serverMessage('R', "\x00\x00\x00\x00")+serverMessage('Z', "I")))
	f.Add(append(binary.BigEndian.AppendUint32([]byte{0, 0, 0, 8}, sslRequest),
		startUpMessage("user\x00u\x00\x00")...),
		[]byte("N"+serverMessage('R', "\x00\x00\x00\x0aSCRAM-SHA-256\x00\x00")))
	f.Add(append(binary.BigEndian.AppendUint32([]byte{0, 0, 0, 16}, cancelRequest), "12345678"...), []byte{})
	f.Add([]byte("\x16\x03\x01"), []byte("E"))
	f.Fuzz(func(t *testing.T, client, server []byte) {
		if led, _, _, err := ushered(t, client, server, true, true); err == nil &&
			(led == nil || led.Server == nil || led.Leave == nil) {
			t.Errorf("%q and %q: %+v", client, server, led)
		}
	})
}
