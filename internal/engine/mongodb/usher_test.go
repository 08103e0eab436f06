package mongodb

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/route"
)

// ushered has a client say something at a door, so many bytes at a time, and gives what it is
// told and what the server is sent.
func ushered(t *testing.T, says []byte, piece int, mayShow bool, methods ...string) (told, sent []byte, err error) {
	t.Helper()
	client, ours := net.Pipe()
	server, theirs := net.Pipe()
	heard, got := make(chan []byte, 1), make(chan []byte, 1)
	listen := func(conn net.Conn, into chan []byte) {
		text, _ := io.ReadAll(io.LimitReader(conn, 1<<20))
		into <- text
	}
	go listen(client, heard)
	go listen(server, got)
	go func() {
		if _, _ = client.Write(says); len(says) < headerSize {
			_ = client.Close()
		}
	}()
	led, err := Engine{}.Usher(t.Context(), ours, engine.Threshold{
		Connect: func(context.Context) (engine.Line, route.Address, error) {
			return engine.Line{Conn: theirs, MayShow: mayShow}, route.Address{}, nil
		},
		Login: engine.Login{Methods: methods}, Word: func(err error) string { return err.Error() }, Patience: time.Second,
	})
	if err == nil {
		whole := make([]byte, len(says)-len(led.ToServer))
		_, _ = io.ReadFull(ours, whole)
		whole = append(bytes.Clone(led.ToServer), whole...)
		for len(whole) > 0 && err == nil {
			n := min(piece, len(whole))
			_, err = led.Server.Write(whole[:n])
			whole = whole[n:]
		}
		led.Leave()
	}
	_, _ = ours.Close(), theirs.Close()
	return <-heard, <-got, err
}

// asked frames a document as the older kind of message has it.
func asked(doc []byte) []byte {
	body := append([]byte("\x00\x00\x00\x00admin.$cmd\x00\x00\x00\x00\x00\xff\xff\xff\xff"), doc...)
	m := make([]byte, headerSize)
	binary.LittleEndian.PutUint32(m, uint32(headerSize+len(body)))
	binary.LittleEndian.PutUint32(m[12:], opQuery)
	return append(m, body...)
}

// TestUsher judges logins by their method, in each form in which a client can begin one, and
// however the bytes come; what else is said goes on as it is.
func TestUsher(t *testing.T) {
	d := func(pairs ...any) (doc bson.D) {
		for i := 0; i < len(pairs); i += 2 {
			doc = append(doc, bson.E{Key: pairs[i].(string), Value: pairs[i+1]})
		}
		return doc
	}
	start := func(method string) bson.D {
		return d("saslStart", 1, "mechanism", method, "payload", []byte("\x00u\x00"+canary), "$db", "$external")
	}
	type judgement struct {
		doc     bson.D
		mayShow bool
		methods []string
		in      bool
	}
	cases := map[string]judgement{
		"SCRAM":                      {start(scram256), false, nil, true},
		"PLAIN, and it may":          {start(plain), true, nil, true},
		"PLAIN, and may not":         {start(plain), false, nil, false},
		"an unknown one":             {start("GSSAPI"), false, nil, false},
		"one that is not accepted":   {start(scram1), true, []string{scram256}, false},
		"X.509":                      {d("authenticate", 1, "mechanism", certificate), false, nil, true},
		"PLAIN by authenticate":      {d("authenticate", 1, "mechanism", plain, "pwd", canary), false, nil, false},
		"PLAIN beside the greeting":  {d("hello", 1, "speculativeAuthenticate", start(plain)), false, nil, false},
		"SCRAM beside the greeting":  {d("isMaster", 1, "speculativeAuthenticate", start(scram256)), false, nil, true},
		"PLAIN in an older wrapping": {d("$query", start(plain)), false, nil, false},
		"a read":                     {d("find", "hut", "filter", d("mechanism", plain)), false, []string{scram256}, true},
		"a long name":                {d(strings.Repeat("x", 200), 1), false, nil, true},
		"a large insert": {d("insert", "hut", "documents", bson.A{strings.Repeat("x", 200_000)}),
			false, nil, true},
		"a large login": {d("saslStart", 1, "mechanism", scram256, "payload",
			make([]byte, mostLogin)), false, nil, false},
	}
	for name, c := range cases {
		body, _ := bson.Marshal(c.doc)
		hello, _ := bson.Marshal(d("hello", 1))
		for form, m := range map[string][]byte{"message": message(7, 0, body), "query": asked(body)} {
			whole := append(message(6, 0, hello), m...) // it is judged wherever it stands
			whole = append(whole, message(8, 0, hello)...)
			for _, piece := range []int{1, 7, 100, len(whole)} {
				if piece < 7 && len(whole) > 10_000 {
					continue
				}
				told, sent, err := ushered(t, whole, piece, c.mayShow, c.methods...)
				if (err == nil) != c.in || c.in && !bytes.Equal(sent, whole) ||
					!c.in && (bytes.Contains(sent, []byte(canary)) || len(told) == 0) {
					t.Errorf("%s, %s, %d at a time: %v, told %q, %d of %d bytes sent", name, form, piece, err,
						told, len(sent), len(whole))
				}
				if bytes.Contains(told, []byte(canary)) {
					t.Errorf("%s: the password is told", name)
				}
			}
		}
	}
	// What is no message of a client's.
	hello := message(1, 0, []byte(greets))
	compressed := bytes.Clone(hello)
	binary.LittleEndian.PutUint32(compressed[12:], opCompressed)
	two := bytes.Clone(hello)
	two[headerSize+4] = 1 // it begins with another part than a document
	for name, c := range map[string]struct {
		says []byte
		in   bool
	}{
		"nothing": {nil, false}, "half a header": {hello[:9], false},
		"TLS":                        {[]byte("\x16\x03\x01\x02\x00\x01"), false},
		"another protocol":           {bytes.Repeat([]byte("GET / "), 9), false},
		"compressed later":           {append(bytes.Clone(hello), compressed...), false},
		"another part first":         {append(bytes.Clone(hello), two...), false},
		"a length that is too short": {append(bytes.Clone(hello), 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xdd, 7, 0, 0), false},
	} {
		if _, _, err := ushered(t, c.says, 1<<20, false); (err == nil) != c.in {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// FuzzJudged has no words of a client end in a panic, and none with a method that may not be used
// reach the server.
func FuzzJudged(f *testing.F) {
	body, _ := bson.Marshal(bson.D{{Key: "saslStart", Value: 1}, {Key: "mechanism", Value: plain},
		{Key: "payload", Value: []byte(canary)}})
	for _, seed := range [][]byte{message(1, 0, []byte(greets)), message(1, 0, body), asked(body),
		append(message(1, 0, []byte(greets)), asked(body)...), {0x16, 3, 1}} {
		f.Add(seed, 7)
	}
	f.Fuzz(func(t *testing.T, says []byte, piece int) {
		j := &judged{Conn: &sink{}, client: &sink{}, accepts: func(string) error { return engine.ErrOutOfTurn },
			word: func(err error) string { return err.Error() }}
		for rest := says; len(rest) > 0; {
			n := max(1, min(piece, len(rest)))
			if _, err := j.Write(rest[:n]); err != nil {
				break
			}
			rest = rest[n:]
		}
		whole := message(1, 0, body)
		if bytes.HasPrefix(j.Conn.(*sink).got, whole) {
			t.Error("a login reached the server")
		}
	})
}

// sink is a connection that keeps what it gets.
type sink struct {
	net.Conn
	got []byte
}

func (s *sink) Write(p []byte) (int, error)      { s.got = append(s.got, p...); return len(p), nil }
func (s *sink) SetWriteDeadline(time.Time) error { return nil }
