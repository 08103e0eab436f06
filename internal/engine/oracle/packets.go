package oracle

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"time"

	"gentle-harbor/internal/engine"
)

// The types of packets, and the parts of their header: the length, a checksum that nobody fills
// in, the type, and flags. The length has two bytes until a server of version 315 or later has
// accepted, and four from then on. Sources: go-ora 2.8.24, network/packets.go; node-oracledb
// 26.0.0, lib/thin/sqlnet/constants.js.
const (
	packetConnect  = 1
	packetAccept   = 2
	packetRefuse   = 4
	packetRedirect = 5
	packetData     = 6
	packetResend   = 11
	packetMarker   = 12
	packetControl  = 14

	headerSize = 8
	dataHeader = 10 // the header of a data packet, with its flags

	flagSeparate = 0x02 // of a redirect: what to say at the other address follows the address, behind a zero byte
	flagLed      = 0x04 // of a connect packet: a redirect led here
	flagTLS      = 0x08 // of a resend: encrypt first

	dataEnds = 0x40 // of a data packet: the last one

	markerReset  = 2
	markerBreaks = 3 // has the server end what it does
)

// How large packets may be: until the server has accepted, and from then on. Both are far more
// than a server sends: we ask for the second as the session's unit.
const (
	earlyPacket = 16 << 10
	unit        = 32 << 10
	latePacket  = 64 << 10
)

// mostMarkers bounds how many markers and control packets may come in a row.
const mostMarkers = 32

// stream reads and writes packets. It is not safe for use by several goroutines, but for interrupt.
type stream struct {
	conn     net.Conn
	accepted bool
	large    bool   // lengths have four bytes
	rest     []byte // of the data packet that is read
	ended    bool   // the server said that no more comes
}

// packet is a packet without the first eight bytes.
type packet struct {
	kind, flags byte
	body        []byte
}

func (s *stream) write(kind, flags byte, body []byte) error {
	head := make([]byte, headerSize, headerSize+len(body))
	size := headerSize + len(body)
	if s.large {
		binary.BigEndian.PutUint32(head, uint32(size))
	} else {
		binary.BigEndian.PutUint16(head, uint16(size))
	}
	head[4], head[5] = kind, flags
	_, err := s.conn.Write(append(head, body...))
	return err
}

// early are the types of packets that come before a listener has accepted.
var early = []byte{packetConnect, packetAccept, packetRefuse, packetRedirect, packetResend, packetData,
	packetMarker, packetControl}

// packet reads the next one. A length that no packet can have is an error before anything is made
// for it.
func (s *stream) packet() (packet, error) {
	head := make([]byte, headerSize)
	if _, err := io.ReadFull(s.conn, head); err != nil {
		return packet{}, err
	}
	size, most := int64(binary.BigEndian.Uint16(head)), int64(earlyPacket)
	if s.large {
		size = int64(binary.BigEndian.Uint32(head))
	}
	if s.accepted {
		most = latePacket
	}
	if !s.accepted && (size < headerSize || size > most || !slices.Contains(early, head[4])) {
		return packet{}, engine.Unexpected(engine.Heard(s.conn, head))
	}
	if size < headerSize || size > most {
		return packet{}, engine.Malformed(fmt.Sprintf("a packet of %d bytes", size))
	}
	p := packet{kind: head[4], flags: head[5], body: make([]byte, size-headerSize)}
	_, err := io.ReadFull(s.conn, p.body)
	return p, err
}

// errReset says that the server ended what it did, and that what it says of that begins anew.
var errReset = errors.New("the server ended what it did")

// data reads the next data packet. A marker says that the server ended what it did: each side
// then sends a marker that resets, and what the server says of it follows (go-ora, processMarker;
// node-oracledb, networkSession.js, reset).
func (s *stream) data() error {
	for range mostMarkers {
		if s.ended {
			return io.EOF
		}
		p, err := s.packet()
		if err != nil {
			return err
		}
		switch {
		case p.kind == packetData && len(p.body) < 2:
			return engine.Malformed("a data packet without its flags")
		case p.kind == packetData:
			s.ended = binary.BigEndian.Uint16(p.body)&dataEnds != 0
			if s.rest = p.body[2:]; len(s.rest) > 0 {
				return nil
			}
		case p.kind == packetMarker && !p.resets():
			if err := s.reset(); err != nil {
				return err
			}
			return errReset
		case p.kind != packetMarker && p.kind != packetControl:
			return engine.Malformed(fmt.Sprintf("a packet of type %d in a session", p.kind))
		}
	}
	return engine.Malformed("packets without an end that hold nothing")
}

// resets reports whether a marker is one that resets.
func (p packet) resets() bool {
	return p.kind == packetMarker && len(p.body) == 3 && p.body[2] == markerReset
}

// reset answers a marker, and reads up to the server's own.
func (s *stream) reset() error {
	s.rest = nil
	if err := s.write(packetMarker, 0, []byte{1, 0, markerReset}); err != nil {
		return err
	}
	for range mostMarkers {
		if p, err := s.packet(); err != nil || p.resets() {
			return err
		}
	}
	return engine.Malformed("markers without an end")
}

// send sends what the client says, in as many data packets as it needs.
func (s *stream) send(message []byte) error {
	for first := true; first || len(message) > 0; first = false {
		n := min(len(message), unit-dataHeader-64)
		if err := s.write(packetData, 0, append([]byte{0, 0}, message[:n]...)); err != nil {
			return err
		}
		message = message[n:]
	}
	return nil
}

// interrupt has the server end what it does.
func (s *stream) interrupt() error {
	return s.write(packetMarker, 0, []byte{1, 0, markerBreaks})
}

// during has reads and writes fail when ctx ends. Over stops that.
func (s *stream) during(ctx context.Context) (over func()) {
	stop := context.AfterFunc(ctx, func() { _ = s.conn.SetDeadline(time.Unix(1, 0)) })
	return func() { stop() }
}
