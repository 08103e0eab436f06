package oracle

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// Refuse implements engine.Refuser: it answers as a listener that refuses.
func (Engine) Refuse(conn net.Conn, text string) {
	_, _ = (&stream{conn: conn}).packet() // a listener speaks when it is spoken to
	refuse(&stream{conn: conn}, text)
}

// refusedAtDoor is the number of a refusal without a better one ("Database Error Messages": the
// connection was refused).
const refusedAtDoor = "12564"

func refuse(client *stream, text string) {
	clean := make([]byte, 0, 500)
	for _, c := range []byte(text[:min(len(text), 500)]) {
		if c >= ' ' && c <= '~' && c != '(' && c != ')' && c != '=' {
			clean = append(clean, c)
		}
	}
	body := "(DESCRIPTION=(ERR=" + refusedAtDoor + ")(REASON=" + string(clean) + "))"
	_ = client.conn.SetWriteDeadline(time.Now().Add(2 * time.Second))
	_ = client.write(packetRefuse, 0, append(binary.BigEndian.AppendUint16([]byte{4, 0}, uint16(len(body))), body...))
}

// Usher implements engine.Usher: it takes what a client asks the listener for, goes where the
// listener hands the connection on to, and leaves client and server to themselves once the server
// accepts. The login is between these two: no word of it shows the password.
func (Engine) Usher(ctx context.Context, client net.Conn, at engine.Threshold) (*engine.Led, error) {
	theirs := &stream{conn: client}
	led, err := usher(ctx, theirs, at)
	if err != nil && !errors.Is(err, engine.ErrAway) {
		refuse(theirs, at.Word(err))
	}
	return led, err
}

func usher(ctx context.Context, client *stream, at engine.Threshold) (led *engine.Led, err error) {
	asks, more, err := heard(client)
	if err != nil {
		return nil, err
	}
	line, to, err := at.Connect(ctx)
	if err != nil {
		return nil, err
	}
	from := to.String()
	var server *stream
	defer func() {
		if err != nil {
			_ = line.Close()
		}
	}()
	for leads := 0; ; leads++ {
		server = &stream{conn: line.Conn}
		done := engine.Within(ctx, at.Patience, line.Conn)
		saw, certificate := "", ""
		if line.TLS != nil {
			encrypted, how, err := engine.Encrypt(ctx, line.Conn, line.TLS)
			if err != nil {
				done()
				return nil, err
			}
			server.conn, saw, certificate = encrypted, how, engine.Describe(encrypted.ConnectionState())
		}
		answer, lead, err := server.put(asks, more)
		if late := done(); late {
			return nil, engine.Silent("greeting")
		}
		if err != nil {
			if known := problem(err); known != nil {
				return nil, known
			}
			return nil, engine.Broken(ctx, "greeting", err)
		}
		if lead == nil {
			if answer.kind != packetAccept { // it refuses in its own words
				_ = client.write(answer.kind, answer.flags, answer.body)
				return nil, engine.ErrAway
			}
			whole := &keeping{}
			_ = (&stream{conn: whole}).write(answer.kind, answer.flags, answer.body)
			return &engine.Led{Server: server.conn, Saw: saw, Certificate: certificate, ToClient: whole.sent,
				Leave: func() {}}, nil
		}
		if leads == mostLeads {
			return nil, &finding.Problem{Code: finding.GreetingLedTooOften,
				Facts: finding.Facts{finding.FactLedTo: lead.to.place()}}
		}
		if lead.to.tls != (line.TLS != nil) {
			return nil, &finding.Problem{Code: finding.GreetingLedAstray,
				Facts: finding.Facts{finding.FactLedTo: lead.to.place(), finding.FactLedFrom: from,
					finding.FactDetail: "It is encrypted at one of the two addresses alone."}}
		}
		_ = line.Close()
		next := lead.to.led(from)
		if line, err = at.Back(ctx, next); err != nil {
			return nil, astray(err, next, from)
		}
		from = next.String()
		if asks.flags |= flagLed; lead.data != nil {
			asks.body, more = withData(asks.body, lead.data)
		}
	}
}

// heard reads what a client asks for: a connect packet, and the data packet that follows a long
// one.
func heard(client *stream) (asks packet, more []byte, err error) {
	if asks, err = client.packet(); err != nil {
		return asks, nil, engine.ErrAway
	}
	if asks.kind != packetConnect || len(asks.body) < 24 {
		return asks, nil, engine.ErrOutOfTurn
	}
	size, at := int(binary.BigEndian.Uint16(asks.body[16:])), int(binary.BigEndian.Uint16(asks.body[18:]))-headerSize
	if size > 0 && at+size > len(asks.body) {
		data, err := client.packet()
		if err != nil {
			return asks, nil, engine.ErrAway
		}
		if data.kind != packetData {
			return asks, nil, engine.ErrOutOfTurn
		}
		more = data.body
	}
	return asks, more, nil
}

// withData gives a client's connect packet with other data: behind it, as for long data.
func withData(body, data []byte) (again, more []byte) {
	at := int(binary.BigEndian.Uint16(body[18:])) - headerSize
	again = append([]byte(nil), body[:min(max(at, 0), len(body))]...)
	binary.BigEndian.PutUint16(again[16:], uint16(len(data)))
	if len(data) <= mostInline {
		return append(again, data...), nil
	}
	return again, append([]byte{0, 0}, data...)
}

// put asks a listener for what a client asks for, and gives its answer; lead is where it hands
// the connection on to, nil for nowhere.
func (s *stream) put(asks packet, more []byte) (answer packet, lead *led, err error) {
	for range mostResends + 1 {
		if err := s.write(asks.kind, asks.flags, asks.body); err != nil {
			return answer, nil, err
		}
		if more != nil {
			if err := s.write(packetData, 0, more); err != nil {
				return answer, nil, err
			}
		}
		if answer, err = s.packet(); err != nil {
			return answer, nil, err
		}
		switch answer.kind {
		case packetResend:
			continue
		case packetRedirect:
			err := s.led(answer)
			var where led
			if errors.As(err, &where) {
				return answer, &where, nil
			}
			return answer, nil, err
		case packetAccept, packetRefuse:
			return answer, nil, nil
		}
		return answer, nil, engine.Unexpected([]byte{0, 0, 0, 0, answer.kind, answer.flags, 0, 0})
	}
	return answer, nil, engine.Malformed("a listener that does not take what it asks for")
}
