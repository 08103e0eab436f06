package mysql

import (
	"context"
	"io"
	"net"
	"testing"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/route"
)

// practiceGreeting is a greeting of version 10 that names a login method.
func practiceGreeting(method string) []byte {
	body := append([]byte{10}, "8.4.0-practice\x00"...)
	body = append(body, 1, 0, 0, 0)
	body = append(body, "12345678\x00"...)
	body = append(body, 0x00, 0xa2, 45, 2, 0, 0x28, 0x00, 21)
	body = append(body, make([]byte, 10)...)
	body = append(body, "123456789012\x00"...)
	body = append(append(body, method...), 0)
	return append([]byte{byte(len(body)), 0, 0, 0}, body...)
}

// ushered leads a client that says some bytes to a server that says others, its first packet by
// itself. Ends has both hang up when they have said it.
func ushered(t *testing.T, fromClient, fromServer []byte, ends bool) (*engine.Led, error) {
	t.Helper()
	client, ours := net.Pipe()
	server, theirs := net.Pipe()
	go func() { _, _ = io.Copy(io.Discard, client) }()
	go func() { _, _ = io.Copy(io.Discard, server) }()
	say := func(conn net.Conn, words ...[]byte) {
		for _, each := range words {
			_, _ = conn.Write(each)
		}
		if ends {
			_ = conn.Close()
		}
	}
	first := len(fromServer)
	if first > 4 {
		first = min(first, 4+length(fromServer))
	}
	go say(client, fromClient)
	go say(server, fromServer[:first], fromServer[first:])
	defer func() { _, _ = ours.Close(), theirs.Close() }()
	return Engine{}.Usher(t.Context(), ours, engine.Threshold{
		Connect: func(context.Context) (engine.Line, route.Address, error) {
			return engine.Line{Conn: theirs, MayShow: true}, route.Address{}, nil
		},
		Keys: &engine.Keys{}, Word: func(err error) string { return err.Error() }, Patience: time.Second,
	})
}

// practiceLogin is a client's first packet, with an answer of some bytes.
func practiceLogin(answer string) []byte {
	body := append([]byte{0x00, 0xa2, 0x28, 0, 0, 0, 0, 1, 45}, make([]byte, 23)...)
	body = append(body, "warden_app\x00"...)
	body = append(append(body, byte(len(answer))), answer...)
	body = append(body, "caching_sha2_password\x00"...)
	return append([]byte{byte(len(body)), 0, 0, 1}, body...)
}

func FuzzUsher(f *testing.F) {
	ok := []byte{7, 0, 0, 2, 0, 0, 0, 2, 0, 0, 0}
	f.Add(practiceLogin("12345678901234567890"), append(practiceGreeting(caching), ok...))
	f.Add(practiceLogin(""), append(practiceGreeting(native), 1, 0, 0, 2, 0xfe))
	f.Add(append(practiceLogin("x"), 1, 0, 0, 3, 2), append(practiceGreeting(caching), 2, 0, 0, 2, 1, 4))
	f.Add([]byte{32, 0, 0, 1, 0, 0x0a, 0, 0}, practiceGreeting(sha256))
	f.Fuzz(func(t *testing.T, client, server []byte) {
		if led, err := ushered(t, client, server, true); err == nil && (led == nil || led.Server == nil || led.Leave == nil) {
			t.Errorf("%q and %q: %+v", client, server, led)
		}
	})
}

// TestUsherLetsIn follows a login to its end.
func TestUsherLetsIn(t *testing.T) {
	ok := []byte{7, 0, 0, 2, 0, 0, 0, 2, 0, 0, 0}
	led, err := ushered(t, practiceLogin("12345678901234567890"), append(practiceGreeting(native), ok...), false)
	if err != nil || led.Server == nil {
		t.Errorf("%+v %v", led, err)
	}
}
