package mysql

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// full is the length of a packet that has the next one as its continuation ("Sending More Than
// 16Mb", MySQL source documentation).
const full = 1<<24 - 1

// Commands whose answers differ ("Command Phase", the same).
const (
	commandPrepare = 0x16
	commandExecute = 0x17
	commandData    = 0x18 // a part of a long value; it has no answer
	commandClose   = 0x19 // neither has this one
)

// Flags of a server's status ("SERVER_STATUS_flags_enum"), and of what is announced to it.
const (
	statusInTransaction = 0x1
	statusMore          = 0x8
	statusNoBackslash   = 0x200
	statusSession       = 0x4000 // the packet says what changed in the session

	clientSessionTrack = 1 << 23
	clientDeprecateEOF = 1 << 24
	extendedMetadata   = 1 << 3 // of MariaDB's own flags ("Connection", MariaDB's documentation)
)

// What a server's description of a result may be at the most. Real ones have some KB; a result
// has at most 4,096 columns in both products.
const (
	mostColumns    = 1 << 14
	mostDefinition = 1 << 20
	mostChanges    = 1 << 16
)

// phase says which packets of the server's may come next.
type phase int

const (
	idle        phase = iota // nothing was asked: what comes is passed on
	first                    // the beginning of an answer
	definitions              // of columns or of parameters
	afterThem                // the packet that ends definitions, where the server sends one
	rows
)

// field is a column of a result, as far as the driver does not say it.
type field struct {
	charset  uint16
	json     bool   // its text is JSON, as MariaDB says of its JSON columns
	typeName string // MariaDB's name of a type that has no number of its own, such as uuid
}

// answer is what a server says at the end of a statement, or of one of its results.
type answer struct {
	affected int64
	status   uint16
	warnings int
	info     string // such as "Records: 3  Duplicates: 0  Warnings: 0"
}

// packets follows the packets after the login, on their way to the driver, which hides what it
// does not need. It bounds each message: the driver puts one together in memory, however long it
// is.
type packets struct {
	from    *bufio.Reader
	to      io.Writer
	most    int  // bytes that one message may have, 0 for any number
	noEOF   bool // CLIENT_DEPRECATE_EOF is agreed on
	tracks  bool // CLIENT_SESSION_TRACK is
	extends bool // MariaDB's extended metadata is: it is taken out on the way, for the driver does not know it
	over    error

	phase   phase
	command byte
	goesOut bool   // the packet of ours that was sent last has a continuation
	left    int    // bytes of the current packet that pass as they are
	goesOn  bool   // the server's current packet has a continuation
	size    int    // of the message so far
	counts  []int  // definitions that are still to come, of each list of them
	said    int    // bytes of definitions
	held    []byte // read, and not yet given to the driver

	local *engine.LocalFile // that the statement which is sent names
	shift byte              // by how much the numbers of the server's packets are ahead of those that the driver expects

	types  []byte // of the parameters that are sent next, 0 for one as the driver has it
	fields []field
	last   answer // its status stays until another one is said
	// changed has what the session says that it is now: its schema under "", its variables under
	// their names.
	changed map[string]string
}

// sent notes a packet that goes to the server, and gives it as it is to go.
func (p *packets) sent(packet []byte) []byte {
	goesOn := p.goesOut
	if p.goesOut = len(packet) >= 4 && length(packet) == full; goesOn || len(packet) < 5 || packet[3] != 0 {
		return packet
	}
	if p.command = packet[4]; p.command == commandData || p.command == commandClose {
		return packet
	}
	p.phase, p.last, p.fields, p.said, p.shift = first, answer{status: p.last.status}, nil, 0, 0
	if p.command == commandExecute {
		return typed(packet, p.types)
	}
	return packet
}

// typed gives a request to execute a statement with the types of its parameters
// ("COM_STMT_EXECUTE"): the driver has no types for decimals and bytes, and sends both as texts,
// with which a server computes in floats, and which it may take for characters. Their values are
// written as those of texts are.
func typed(packet, types []byte) []byte {
	// behind the header, the statement's number, the flags, the list of nulls, and the word that
	// types follow
	at := 4 + 10 + (len(types)+7)/8 + 1
	if len(types) == 0 || len(packet) < at+2*len(types) {
		return packet
	}
	packet = bytes.Clone(packet)
	for i, kind := range types {
		if kind != 0 {
			packet[at+2*i] = kind
		}
	}
	return packet
}

// Read gives the driver whole packets and parts of rows, as far as they have come. Its error is a
// *finding.Problem where the server says what it may not, and the same from then on.
func (p *packets) Read(b []byte) (n int, err error) {
	if p.over != nil {
		return 0, p.over
	}
	for n < len(b) {
		switch {
		case len(p.held) > 0:
			k := copy(b[n:], p.held)
			n, p.held = n+k, p.held[k:]
			continue
		case n > 0 && p.from.Buffered() == 0:
			return n, nil // what is there goes first
		case p.left > 0:
			k, err := p.from.Read(b[n:min(len(b), n+p.left)])
			n, p.left = n+k, p.left-k
			if err != nil {
				return n, err
			}
			continue
		case n > 0 && p.from.Buffered() < 5:
			return n, nil
		}
		if err := p.next(); err != nil {
			if p.over != nil && n > 0 {
				return n, nil
			}
			return n, err
		}
	}
	return n, nil
}

// next looks at the beginning of the next packet.
func (p *packets) next() error {
	header, err := p.from.Peek(4)
	if err != nil {
		return err
	}
	size := length(header)
	if !p.goesOn {
		p.size = 0
	}
	if p.size += size; p.most > 0 && p.size > p.most {
		p.over = engine.TooLarge(0, p.most)
		return p.over
	}
	continued := p.goesOn
	p.goesOn = size == full
	if continued || size == 0 || p.phase == idle {
		p.left = 4 + size
		return nil
	}
	begin, err := p.from.Peek(5)
	if err != nil {
		return err
	}
	kind := begin[4]
	if p.phase == rows && (kind != packetSwitch && kind != packetErr || size == full) {
		p.left = 4 + size
		return nil
	}
	if kind == packetErr && p.shift == 0 {
		p.phase, p.left = idle, 4+size
		return nil
	}
	if size > mostDefinition {
		p.over = engine.Malformed(fmt.Sprintf("a packet of %d bytes that says how a result is", size))
		return p.over
	}
	packet := make([]byte, 4+size)
	if _, err := io.ReadFull(p.from, packet); err != nil {
		return err
	}
	if packet[3] -= p.shift; kind == packetErr {
		p.phase, p.held = idle, packet
		return nil
	}
	if p.phase == first && kind == wantsFile && p.local != nil && string(packet[4:][1:]) == p.local.Name {
		if err := p.send(packet[3]); err != nil {
			p.over = &finding.Problem{Code: finding.QueryClosed, Err: err}
		}
		return p.over
	}
	if p.held = p.step(kind, packet); p.held == nil {
		p.over = engine.Malformed("a packet whose lengths do not fit")
		return p.over
	}
	return nil
}

// filePiece is how much of a file one packet has.
const filePiece = 256 << 10

// send sends the file that the statement names, and an empty packet ("LOCAL INFILE Request"). The
// driver does not know of it: it offers files by a registry of its own, from which any server
// could ask for any of them. Number is that of the server's request. An error ends the
// connection, so that the server does not take a part for the whole.
func (p *packets) send(number byte) error {
	file := p.local
	p.local = nil
	before, packet := number, make([]byte, 4+filePiece)
	write := func(size int) error {
		number++
		packet[0], packet[1], packet[2], packet[3] = byte(size), byte(size>>8), byte(size>>16), number
		_, err := p.to.Write(packet[:4+size])
		return err
	}
	for {
		n, err := io.ReadFull(file.From, packet[4:])
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return err
		}
		if n > 0 {
			if err := write(n); err != nil {
				return err
			}
		}
		if last {
			p.shift = number + 2 - before
			return write(0)
		}
	}
}

// step follows a packet that is none of a row, and gives it as the driver gets it. It is nil for
// one that is too short for what it says.
func (p *packets) step(kind byte, packet []byte) []byte {
	body := packet[4:]
	switch p.phase {
	case first:
		return p.begin(kind, packet)
	case definitions:
		f, short := define(packet, p.extends)
		if p.said += len(body); short == nil || p.said > 16*mostDefinition {
			return nil
		}
		if p.command != commandPrepare {
			p.fields = append(p.fields, f)
		}
		if p.counts[0]--; p.counts[0] == 0 {
			if p.phase = afterThem; p.noEOF {
				p.defined()
			}
		}
		return short
	case afterThem:
		if kind != packetSwitch {
			return nil
		}
		p.defined()
	case rows:
		if !p.ended(body, p.noEOF) {
			return nil
		}
	}
	return packet
}

// begin follows the first packet of an answer.
func (p *packets) begin(kind byte, packet []byte) []byte {
	body := packet[4:]
	switch {
	case kind == packetOK && p.command == commandPrepare:
		if len(body) < 9 {
			return nil
		}
		p.counts, p.phase = nil, idle
		for _, at := range []int{7, 5} { // parameters come first
			if n := binary.LittleEndian.Uint16(body[at:]); n > 0 {
				p.counts, p.phase = append(p.counts, int(n)), definitions
			}
		}
	case kind == packetOK:
		if !p.ended(body, true) {
			return nil
		}
	case kind == wantsFile: // the driver refuses, and the answer goes on
	default:
		n, rest, ok := number(body)
		if !ok || n == 0 || n > mostColumns || len(rest) > 1 {
			return nil
		}
		p.fields, p.counts, p.phase = nil, []int{int(n)}, definitions
	}
	return packet
}

// defined goes on after the last of some definitions.
func (p *packets) defined() {
	p.counts = p.counts[1:]
	switch {
	case len(p.counts) > 0:
		p.phase = definitions
	case p.command == commandPrepare:
		p.phase = idle
	default:
		p.phase = rows
	}
}

// ended reads the packet that ends a result: OK, or the shorter EOF of older servers
// ("OK_Packet", "EOF_Packet").
func (p *packets) ended(body []byte, ok bool) bool {
	a := answer{}
	if !ok {
		if len(body) < 5 {
			return false
		}
		a.warnings, a.status = int(binary.LittleEndian.Uint16(body[1:])), binary.LittleEndian.Uint16(body[3:])
	} else {
		affected, rest, ok := number(body[1:])
		if ok {
			_, rest, ok = number(rest)
		}
		if !ok || len(rest) < 4 {
			return false
		}
		a = answer{affected: int64(affected), status: binary.LittleEndian.Uint16(rest),
			warnings: int(binary.LittleEndian.Uint16(rest[2:]))}
		rest = rest[4:]
		switch {
		case !p.tracks:
			a.info = string(rest)
		case len(rest) > 0:
			if a.info, rest, ok = text(rest); !ok {
				return false
			}
			if a.status&statusSession != 0 && !p.change(rest) {
				return false
			}
		}
	}
	p.last, p.phase = a, idle
	if a.status&statusMore != 0 {
		p.phase = first
	}
	return true
}

// change takes what changed in a session ("Session State Information" of OK_Packet).
func (p *packets) change(data []byte) bool {
	all, _, ok := text(data)
	if !ok || len(all) > mostChanges {
		return false
	}
	if p.changed == nil {
		p.changed = map[string]string{}
	}
	for rest := []byte(all); len(rest) > 0; {
		kind := rest[0]
		var each string
		if each, rest, ok = text(rest[1:]); !ok {
			return false
		}
		name, value, in := "", "", []byte(each)
		switch kind {
		case 0: // variables: pairs of a name and a value
			for len(in) > 0 {
				if name, in, ok = text(in); !ok {
					return false
				}
				if value, in, ok = text(in); !ok {
					return false
				}
				if len(p.changed) < 100 {
					p.changed[name] = value
				}
			}
		case 1: // the schema
			if value, _, ok = text(in); !ok {
				return false
			}
			p.changed[""] = value
		}
	}
	return true
}

// definitionEnd is how long the part of a definition after its texts is, the same in every one
// ("ColumnDefinition41").
const definitionEnd = 13

// define reads the definition of a column, and gives the packet without MariaDB's extension.
func define(packet []byte, extended bool) (f field, short []byte) {
	rest := packet[4:]
	ok := true
	for range 6 { // catalogue, schema, table and column, each with its own name and the one in the statement
		if _, rest, ok = text(rest); !ok {
			return f, nil
		}
	}
	if len(rest) < definitionEnd {
		return f, nil
	}
	short = packet
	if texts := len(packet) - len(rest); extended && len(rest) > definitionEnd {
		more, end, ok := text(rest)
		if !ok || len(end) != definitionEnd {
			return f, nil
		}
		for in := []byte(more); len(in) > 0; {
			kind := in[0]
			var value string
			if value, in, ok = text(in[1:]); !ok {
				return f, nil
			}
			switch {
			case kind == 0:
				f.typeName = strings.ToUpper(value)
			case kind == 1 && value == "json":
				f.json = true
			}
		}
		short = append(append([]byte(nil), packet[:texts]...), end...)
		size := len(short) - 4
		short[0], short[1], short[2] = byte(size), byte(size>>8), byte(size>>16)
		rest = end
	}
	f.charset = binary.LittleEndian.Uint16(rest[1:])
	return f, short
}

// number reads an integer whose first byte says its length ("Protocol::LengthEncodedInteger").
func number(b []byte) (n uint64, rest []byte, ok bool) {
	if len(b) == 0 {
		return 0, nil, false
	}
	size := map[byte]int{0xfc: 2, 0xfd: 3, 0xfe: 8}[b[0]]
	switch {
	case b[0] < 0xfb:
		return uint64(b[0]), b[1:], true
	case size == 0 || len(b) < 1+size:
		return 0, nil, false
	}
	for i := size; i > 0; i-- {
		n = n<<8 | uint64(b[i])
	}
	return n, b[1+size:], true
}

// text reads a text before which its length is ("Protocol::LengthEncodedString").
func text(b []byte) (s string, rest []byte, ok bool) {
	n, rest, ok := number(b)
	if !ok || n > uint64(len(rest)) {
		return "", nil, false
	}
	return string(rest[:n]), rest[n:], true
}
