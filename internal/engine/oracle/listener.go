package oracle

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// The versions of the packets' protocol that are spoken, and parts of what is said in a connect
// packet and of the answers, by their places behind the header. Sources: go-ora,
// network/connect_packet.go, accept_packet.go, refuse_packet.go, redirect_packet.go;
// node-oracledb, lib/thin/sqlnet/constants.js and packet.js.
const (
	version     = 317
	leastOf     = 300
	largeFrom   = 315    // from this version on, lengths have four bytes
	options     = 0x0801 // full duplex or half, and no urgent data
	transport   = 0x4f98 // what the transport can do
	noOwn       = 0x04   // no encryption and no checks of the protocol's own
	ownRequired = 0x10   // they are required
	connectSize = 62     // of a connect packet without its data
	mostInline  = 230    // how long its data may be; longer data follows in a data packet
	acceptSize  = 16
)

// mostLeads is how often a listener may hand a connection on, and mostResends how often it may
// ask for the connect packet again.
const (
	mostLeads   = 5
	mostResends = 3
)

// program is what is said of this machine, of its user and of this program.
const program = "gharbor"

// led is a listener's answer that another address is to be asked.
type led struct {
	to   description
	data []byte // what is to be said there; nil for the same
}

func (led) Error() string { return "the listener hands the connection on" }

// connectData is what is asked for, in the form that listeners read. The names were checked when
// the profile was.
func connectData(at route.Address, login engine.Login, tls bool) ([]byte, error) {
	host := at.Host
	if at.Written.Name != "" {
		host = at.Written.Name
	}
	d := description{host: host, port: at.Port, service: login.Database, instance: login.Instance, tls: tls}
	text := d.text("(CID=(PROGRAM=" + program + ")(HOST=" + program + ")(USER=" + program + "))")
	if back, err := parseDescription(text); err != nil || back.service != d.service ||
		back.instance != d.instance || len(back.places) > 1 || host != "" && back.host != host {
		return nil, &finding.Problem{Code: finding.SettingsUnknown,
			Words: outside.Said("the name of the service or the host has a character that a listener takes for " +
				"a part of its own language")}
	}
	return []byte(text), nil
}

// connect asks a listener for a service or an instance. The error is led when the listener hands
// the connection on.
func (s *stream) connect(data []byte, flags byte) error {
	body := make([]byte, connectSize)
	put := binary.BigEndian.PutUint16
	put(body[0:], version)
	put(body[2:], leastOf)
	put(body[4:], options)
	put(body[6:], unit)
	put(body[8:], unit)
	put(body[10:], transport)
	put(body[14:], 1)
	put(body[16:], uint16(len(data)))
	put(body[18:], headerSize+connectSize)
	body[24], body[25] = noOwn, noOwn
	binary.BigEndian.PutUint32(body[50:], unit)
	binary.BigEndian.PutUint32(body[54:], unit)
	say := func() error {
		if len(data) <= mostInline {
			return s.write(packetConnect, flags, append(bytes.Clone(body), data...))
		}
		if err := s.write(packetConnect, flags, body); err != nil {
			return err
		}
		return s.send(data)
	}
	if err := say(); err != nil {
		return err
	}
	resent := 0
	for range mostMarkers {
		p, err := s.packet()
		if err != nil {
			return err
		}
		switch p.kind {
		case packetAccept:
			return s.accept(p)
		case packetRefuse:
			return s.refused(p)
		case packetRedirect:
			return s.led(p)
		case packetResend:
			if resent++; p.flags&flagTLS != 0 || resent > mostResends {
				return engine.Malformed("a listener that does not take what it asks for")
			}
			if err := say(); err != nil {
				return err
			}
		case packetControl:
		default:
			return engine.Unexpected(append([]byte{0, 0, 0, 0, p.kind, p.flags, 0, 0}, p.body[:min(len(p.body), 64)]...))
		}
	}
	return engine.Malformed("packets without an end that hold nothing")
}

// accept takes over what the server has chosen.
func (s *stream) accept(p packet) error {
	if len(p.body) < acceptSize {
		return engine.Malformed("an answer that is too short")
	}
	chosen := binary.BigEndian.Uint16(p.body)
	if chosen < leastOf || chosen > version {
		return engine.Malformed(fmt.Sprintf("version %d of the protocol, where at most %d was asked for", chosen, version))
	}
	if (p.body[14]|p.body[15])&ownRequired != 0 {
		return &finding.Problem{Code: finding.GreetingOwnEncryption}
	}
	s.accepted, s.large = true, chosen >= largeFrom
	return nil
}

// more gives the text of a packet: behind its length, or in a data packet that follows.
func (s *stream) more(p packet, at int) ([]byte, error) {
	if len(p.body) < at {
		return nil, engine.Malformed("an answer that is too short")
	}
	if text := p.body[at:]; len(text) > 0 {
		return text, nil
	}
	if binary.BigEndian.Uint16(p.body[at-2:]) == 0 {
		return nil, nil
	}
	err := s.data()
	text := s.rest
	s.rest = nil
	if errors.Is(err, errReset) {
		err = engine.Malformed("a marker in a listener's answer")
	}
	return text, err
}

// refused gives why a listener refuses.
func (s *stream) refused(p packet) error {
	text, err := s.more(p, 4)
	if err != nil && !isEnd(err) {
		return err
	}
	number := numberOf(text)
	problem := &finding.Problem{Code: finding.GreetingUnknown, Number: outside.Said(number),
		Words: outside.Said(string(text))}
	if n, err := strconv.Atoi(number); err == nil {
		if code := byNumber[n]; code != "" {
			problem.Code, problem.Words = code, outside.Said("ERR="+number)
		}
		problem.Number = outside.Said(fmt.Sprintf("%s-%05d", prefixOf(n), n))
	}
	return problem
}

// led reads where a listener hands the connection on to.
func (s *stream) led(p packet) error {
	text, err := s.more(p, 2)
	if err != nil {
		return err
	}
	var data []byte
	if p.flags&flagSeparate != 0 {
		text, data, _ = bytes.Cut(text, []byte{0})
	}
	to, err := parseDescription(string(text))
	if err != nil || to.host == "" || to.port == 0 || !printable(data) || len(data) > earlyPacket/2 {
		return engine.Malformed("a listener that hands the connection on, and does not say where to")
	}
	return led{to, data}
}

// printable reports whether a text has letters, digits and signs alone.
func printable(text []byte) bool {
	for _, c := range text {
		if c < ' ' || c > '~' {
			return false
		}
	}
	return true
}

// reach connects to the listener, and goes where it hands the connection on to. The stream's
// server has accepted.
func reach(ctx context.Context, end engine.Endpoint, login engine.Login, watch engine.Watch) (s *stream,
	line engine.Line, saw string, err error) {
	at, flags, said := end.At, byte(0), []byte(nil)
	var before string
	for leads := 0; ; leads++ {
		line, err = end.Connect(ctx, at)
		if err != nil && leads > 0 {
			return nil, line, "", astray(err, at, before)
		}
		if err != nil {
			return nil, line, "", err
		}
		s = &stream{conn: line.Conn}
		to, err := s.enter(ctx, line, at, login, flags, said, func(leg, seen string) {
			if saw = seen; leads == 0 {
				watch(leg, seen)
			}
		})
		if err == nil {
			seen := "the listener has " + asked(login)
			if before != "" {
				seen += ", and handed the connection on to " + at.String()
			}
			watch("greeting", seen)
			return s, line, saw, nil
		}
		_ = line.Close()
		if to == nil {
			return nil, line, "", err
		}
		if leads == mostLeads {
			return nil, line, "", &finding.Problem{Code: finding.GreetingLedTooOften,
				Facts: finding.Facts{finding.FactLedTo: to.to.place()}}
		}
		if to.to.tls != (line.TLS != nil) {
			return nil, line, "", &finding.Problem{Code: finding.GreetingLedAstray,
				Facts: finding.Facts{finding.FactLedTo: to.to.place(), finding.FactLedFrom: at.String(),
					finding.FactDetail: "It is encrypted at one of the two addresses alone."}}
		}
		before, flags, said = at.String(), flagLed, to.data
		at = to.to.led(before)
	}
}

// led gives where a description leads, whose listener said so at another address.
func (d description) led(from string) route.Address {
	return route.Address{Network: "tcp", Host: d.host, Port: d.port, Led: from,
		Written: target.Address{Kind: target.Host, Name: d.host, Port: d.port}}
}

// asked words what a login asks a listener for.
func asked(login engine.Login) string {
	if login.Instance != "" {
		return "the instance " + login.Instance
	}
	return "the service " + login.Database
}

// astray is the failure of an address that a listener has named.
func astray(err error, at route.Address, from string) error {
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code.Leg() != "port" && p.Code.Leg() != "name" && p.Code.Leg() != "tunnel" {
		return err
	}
	return &finding.Problem{Code: finding.GreetingLedAstray, Err: p,
		Facts: finding.Facts{finding.FactLedTo: at.String(), finding.FactLedFrom: from, finding.FactWords: "",
			finding.FactDetail: "It failed there with " + string(p.Code) + "."}, Words: p.Words}
}

// enter encrypts where the profile says so, and asks for the service. To is where the listener
// hands the connection on to, nil for nowhere.
func (s *stream) enter(ctx context.Context, line engine.Line, at route.Address, login engine.Login, flags byte,
	said []byte, encrypted engine.Watch) (to *led, err error) {
	over := s.during(ctx)
	defer over()
	if line.TLS != nil {
		conn, saw, err := engine.Encrypt(ctx, s.conn, line.TLS)
		if err != nil {
			return nil, err
		}
		s.conn = conn
		encrypted("tls", saw)
	}
	if said == nil {
		if said, err = connectData(at, login, line.TLS != nil); err != nil {
			return nil, err
		}
	}
	err = s.connect(said, flags)
	var lead led
	var known *finding.Problem
	switch {
	case errors.As(err, &lead):
		return &lead, err
	case err == nil, errors.As(err, &known):
		return nil, err
	}
	return nil, engine.Broken(ctx, "greeting", err)
}
