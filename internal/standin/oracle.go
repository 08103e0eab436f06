package standin

import (
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// oracleConn is one client of a practice server that speaks Oracle Database's protocol, as its
// listener and as the server behind it. What it knows of the protocol is what the drivers go-ora
// 2.8.24 and node-oracledb 26.0.0 say and take: both log in to it unmodified, in the tests.
type oracleConn struct {
	server *Server
	conn   net.Conn
	number uint32
	as     identity

	large   bool // lengths have four bytes
	in      oracleReader
	client  oracleClient
	cursors map[int]*result
	last    int // the number of the newest cursor
	sys     bool
}

// oracleClient is what a client said of itself.
type oracleClient struct {
	charset     int
	fields      byte // the version of the messages' fields
	byteDigits  bool // the digits behind a point come as a byte
	zones, list bool
}

// The types of packets.
const (
	tnsConnect  = 1
	tnsAccept   = 2
	tnsRefuse   = 4
	tnsRedirect = 5
	tnsData     = 6
	tnsResend   = 11
	tnsMarker   = 12
)

// State is how far the database behind a practice listener is.
type State string

// The states.
const (
	IsOpen       State = "" // it is open
	IsReadOnly   State = "read-only"
	IsRestricted State = "restricted" // open, for administrators alone
	IsMounted    State = "mounted"
	IsStarted    State = "started"
	IsStopped    State = "stopped"
	IsUnknown    State = "unknown" // the listener does not know its services yet
)

// Become puts the database of a practice listener into another state.
func (s *Server) Become(state State) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.config.State = state
}

func (s *Server) state() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.config.State
}

// About gives what the last client that logged in to a practice listener said of itself and its
// machine.
func (s *Server) About() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.about
}

func (c *oracleConn) serve() {
	f := c.server.config.Faults
	if c.server.config.TLS != nil {
		encrypted := tls.Server(c.conn, c.server.config.TLS)
		if encrypted.Handshake() != nil {
			return
		}
		c.conn = encrypted
	}
	c.in.conn = c
	for again := 0; ; again++ {
		asked, ok := c.asked()
		if !ok {
			return
		}
		switch {
		case again < f.Resend:
			c.packet(tnsResend, nil)
			continue
		case f.Script != nil:
			_, _ = c.conn.Write(f.Script)
			wait(c.conn)
			return
		case f.Redirect != "":
			to := f.Redirect
			if to == "here" {
				to = c.conn.LocalAddr().String()
			}
			host, port, _ := net.SplitHostPort(to)
			text := fmt.Sprintf("(ADDRESS=(PROTOCOL=%s)(HOST=%s)(PORT=%s))",
				map[bool]string{true: "tcps", false: "tcp"}[c.server.config.TLS != nil], host, port)
			c.packet(tnsRedirect, append(binary.BigEndian.AppendUint16(nil, uint16(len(text))), text...))
			return
		}
		if number := c.listener(asked); number != 0 {
			c.refuse(number)
			return
		}
		break
	}
	if c.accept() != nil || c.negotiate() != nil || !c.login() {
		return
	}
	for c.answer() {
	}
}

// asked reads a connect packet, and gives what it asks for.
func (c *oracleConn) asked() (asked string, ok bool) {
	kind, body, err := c.read()
	if err != nil || kind != tnsConnect || len(body) < 50 {
		return "", false
	}
	size, at := int(binary.BigEndian.Uint16(body[16:])), int(binary.BigEndian.Uint16(body[18:]))-8
	if at+size <= len(body) && at > 0 {
		return string(body[at : at+size]), true
	}
	kind, body, err = c.read()
	if err != nil || kind != tnsData || len(body) < 2 {
		return "", false
	}
	return string(body[2:]), true
}

var (
	oracleService  = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)\(SERVICE_NAME=([^)]*)\)`) })
	oracleInstance = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)\((?:SID|INSTANCE_NAME)=([^)]*)\)`)
	})
)

// listener gives the number with which what is asked for is refused, 0 for none.
func (c *oracleConn) listener(asked string) int {
	f, state := c.server.config.Faults, c.server.state()
	if number, _ := strconv.Atoi(f.Refusal); number != 0 && f.Early {
		return number
	}
	service, instance := "", ""
	if met := oracleService().FindStringSubmatch(asked); met != nil {
		service = met[1]
	}
	if met := oracleInstance().FindStringSubmatch(asked); met != nil {
		instance = met[1]
	}
	c.as.database = service
	switch {
	case instance != "" && service == "":
		c.as.database = c.server.config.Databases[0]
		if !strings.EqualFold(instance, c.server.instance()) {
			return 12505
		}
		return 0
	case service == "":
		return 12504
	case state == IsUnknown, state == IsStopped,
		!slices.ContainsFunc(c.server.config.Databases, func(name string) bool {
			return strings.EqualFold(name, service)
		}):
		return 12514
	case state == IsMounted, state == IsStarted:
		return 12528
	case state == IsRestricted:
		return 12526
	case f.TooMany:
		return 12520
	}
	return 0
}

func (s *Server) instance() string {
	if s.config.Instance != "" {
		return s.config.Instance
	}
	return "HUTS1"
}

// refuse is a listener's refusal: the number twice, as listeners write it.
func (c *oracleConn) refuse(number int) {
	text := fmt.Sprintf("(DESCRIPTION=(TMP=)(VSNNUM=318767104)(ERR=%d)(ERROR_STACK=(ERROR=(CODE=%d)(EMFI=4))))",
		number, number)
	if f := c.server.config.Faults; f.ErrorText != "" {
		text = fmt.Sprintf("(DESCRIPTION=(ERR=%d)(TEXT=%s))", number, f.ErrorText)
	}
	body := binary.BigEndian.AppendUint16([]byte{4, 0}, uint16(len(text)))
	c.packet(tnsRefuse, append(body, text...))
}

// read reads a packet.
func (c *oracleConn) read() (kind byte, body []byte, err error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(c.conn, head); err != nil {
		return 0, nil, err
	}
	size := int(binary.BigEndian.Uint16(head))
	if c.large {
		size = int(binary.BigEndian.Uint32(head))
	}
	if size < 8 || size > 1<<21 {
		return 0, nil, errors.New("a packet that is too large")
	}
	body = make([]byte, size-8)
	_, err = io.ReadFull(c.conn, body)
	return head[4], body, err
}

func (c *oracleConn) packet(kind byte, body []byte) {
	head := make([]byte, 8)
	if c.large {
		binary.BigEndian.PutUint32(head, uint32(len(body)+8))
	} else {
		binary.BigEndian.PutUint16(head, uint16(len(body)+8))
	}
	head[4] = kind
	_, _ = c.conn.Write(append(head, body...))
}

// accept takes the version that the client knows, up to 317.
func (c *oracleConn) accept() error {
	body := make([]byte, 37)
	binary.BigEndian.PutUint16(body, 317)
	binary.BigEndian.PutUint16(body[4:], 8192)
	binary.BigEndian.PutUint16(body[6:], 65535)
	binary.BigEndian.PutUint16(body[8:], 1)
	binary.BigEndian.PutUint16(body[12:], 45)
	body[14], body[15] = 0x04, 0x0c
	if c.server.config.Faults.OwnEncryption {
		body[14], body[15] = 0x11, 0x11
	}
	binary.BigEndian.PutUint32(body[24:], 8192)
	binary.BigEndian.PutUint32(body[28:], 65535)
	c.packet(tnsAccept, body)
	c.large = true
	return nil
}

// say sends a message.
func (c *oracleConn) say(message []byte) {
	for first := true; first || len(message) > 0; first = false {
		n := min(len(message), 8000)
		c.packet(tnsData, append([]byte{0, 0}, message[:n]...))
		message = message[n:]
	}
}

// oracleReader takes messages of a client apart; what is missing is read from further packets.
type oracleReader struct {
	conn *oracleConn
	rest []byte
	err  error
}

func (r *oracleReader) raw(n int) []byte {
	for len(r.rest) < n && r.err == nil {
		kind, body, err := r.conn.read()
		switch {
		case err != nil:
			r.err = err
		case kind == tnsMarker: // a client that ends a statement which has ended
			r.conn.packet(tnsMarker, []byte{1, 0, 2})
		case kind != tnsData || len(body) < 2 || len(r.rest) > 8<<20:
			r.err = errors.New("a client that says what it may not")
		default:
			if binary.BigEndian.Uint16(body)&0x40 != 0 {
				r.err = io.EOF
			}
			r.rest = append(r.rest, body[2:]...)
		}
	}
	if len(r.rest) < n || n < 0 {
		return make([]byte, max(n, 0)&0xffff)
	}
	data := r.rest[:n]
	r.rest = r.rest[n:]
	return data
}

func (r *oracleReader) byte() byte { return r.raw(1)[0] }

func (r *oracleReader) number() int {
	size := int(r.byte() & 0x7f)
	n := 0
	for _, b := range r.raw(min(size, 8)) {
		n = n<<8 | int(b)
	}
	return n
}

// text reads a text; its pieces have their lengths as whole numbers.
func (r *oracleReader) text() string {
	switch size := r.byte(); size {
	case 0, 0xff:
		return ""
	case 0xfe:
		var b strings.Builder
		for n := r.number(); n > 0 && r.err == nil && b.Len() < 8<<20; n = r.number() {
			b.Write(r.raw(n))
		}
		return b.String()
	default:
		return string(r.raw(int(size)))
	}
}

func (r *oracleReader) said() string {
	if r.number() == 0 {
		return ""
	}
	return r.text()
}

// oracleWriter puts messages together.
type oracleWriter []byte

func (w *oracleWriter) bytes(list ...byte) { *w = append(*w, list...) }

func (w *oracleWriter) number(n int) {
	var whole []byte
	for ; n > 0; n >>= 8 {
		whole = append([]byte{byte(n)}, whole...)
	}
	w.bytes(byte(len(whole)))
	w.bytes(whole...)
}

func (w *oracleWriter) text(text string) {
	if len(text) <= 252 {
		w.bytes(byte(len(text)))
		w.bytes([]byte(text)...)
		return
	}
	w.bytes(0xfe)
	for len(text) > 0 {
		n := min(len(text), 32767)
		w.number(n)
		w.bytes([]byte(text[:n])...)
		text = text[n:]
	}
	w.bytes(0)
}

// said writes a text behind its length.
func (w *oracleWriter) said(text string) {
	if w.number(len(text)); text != "" {
		w.text(text)
	}
}

func (w *oracleWriter) pair(name, value string, flags int) {
	w.said(name)
	w.said(value)
	w.number(flags)
}

// ended writes how a call ended.
func (w *oracleWriter) ended(c *oracleConn, number, rows, cursor, position int, text string) {
	w.bytes(4)
	w.number(map[bool]int{true: 2, false: 0}[c.server.data.inTransaction(c.number)])
	w.number(0)
	w.number(0)
	w.number(min(number, 65535))
	w.number(0)
	w.number(0)
	w.number(cursor)
	w.number(position)
	w.bytes(make([]byte, 6)...)
	w.bytes(make([]byte, 5)...) // where a row is
	w.number(0)
	w.bytes(0, 0)
	w.number(0)
	w.number(0)
	w.number(0)
	for range 3 { // the errors of several rows
		w.number(0)
	}
	w.number(number)
	w.number(rows)
	if number != 0 {
		w.text(text)
	}
}

// fail answers a call with an error: the server ends what it does with a marker, and both sides
// reset before it says why.
func (c *oracleConn) fail(number, position int, text string) bool {
	c.packet(tnsMarker, []byte{1, 0, 1})
	for {
		kind, body, err := c.read()
		if err != nil {
			return false
		}
		if kind == tnsMarker && len(body) == 3 && body[2] == 2 {
			break
		}
	}
	c.packet(tnsMarker, []byte{1, 0, 2})
	c.in.rest = nil
	var w oracleWriter
	w.ended(c, number, 0, 0, position, fmt.Sprintf("ORA-%05d: %s\n", number, text))
	c.say(w)
	return true
}

// negotiate agrees on the form of messages.
func (c *oracleConn) negotiate() error {
	r := &c.in
	if r.byte() != 1 {
		return errors.New("no message of the protocol")
	}
	for r.byte() != 0 && r.err == nil { // the versions that it speaks
	}
	for r.byte() != 0 && r.err == nil { // its name
	}
	compiled := make([]byte, 45)
	copy(compiled, []byte{6, 1, 1, 1, 0xef, 1, 1, 11, 1, 1, 1, 1, 1, 1, 1, 0x29, 0x91, 3, 7, 3, 0, 1, 0, 0xeb,
		1, 0, 5, 1, 0, 0, 0, 24, 0, 0, 7, 0x20, 2, 0x3a})
	if c.server.config.Login == "verifier-11g-old" {
		compiled[4] &^= 0x20 // it mixes the keys of a login in the older way
	}
	running := []byte{2, 1, 0, 0, 0, 0, 4}
	var w oracleWriter
	w.bytes(1, 6, 0)
	w.bytes([]byte("a practice server of Fellside Huts\x00")...)
	w.bytes(0x69, 0x03, 1, 0, 0, 0, 11) // UTF-8, no elements, and what follows has 11 bytes
	w.bytes(make([]byte, 9)...)
	w.bytes(0x07, 0xd0) // UTF-16 for national texts
	w.bytes(byte(len(compiled)))
	w.bytes(compiled...)
	w.bytes(byte(len(running)))
	w.bytes(running...)
	c.say(w)
	if r.byte() != 2 || r.err != nil {
		return errors.New("no message of the kinds of data")
	}
	c.client.charset = int(binary.LittleEndian.Uint16(r.raw(2)))
	r.raw(3)
	theirs := slices.Clone(r.raw(int(r.byte())))
	now := slices.Clone(r.raw(int(r.byte())))
	if len(theirs) < 8 || len(now) < 2 {
		return errors.New("a client that can do nothing")
	}
	c.client.fields = min(theirs[7], 11)
	if c.client.zones = now[1]&1 != 0; c.client.zones {
		r.raw(11)
	}
	if c.client.list = len(theirs) > 37 && theirs[37]&2 != 0; c.client.list {
		r.raw(4)
	}
	// One of the drivers says the character set of national texts here, the other does not.
	first := binary.BigEndian.Uint16(r.raw(2))
	if first == 0xd007 {
		first = binary.BigEndian.Uint16(r.raw(2))
	}
	for kind := first; kind != 0 && r.err == nil; kind = binary.BigEndian.Uint16(r.raw(2)) {
		if binary.BigEndian.Uint16(r.raw(2)) == 0 {
			continue
		}
		if form := r.raw(4); kind == 27 {
			c.client.byteDigits = binary.BigEndian.Uint16(form) == 10
		}
	}
	w = oracleWriter{2}
	if c.client.zones {
		w.bytes(0x80, 0, 0, 0, 60, 60, 60, 0x80, 0, 0, 0)
	}
	if c.client.list {
		w.bytes(0, 0, 0, 0x20)
	}
	w.bytes(0, 1, 0, 1, 0, 1, 0, 0, 0, 2, 0, 2, 0, 10, 0, 0, 0, 13, 0, 0, 0, 0)
	c.say(w)
	return r.err
}

// call reads the head of a call, over what stands before it.
func (c *oracleConn) call() (function byte, ok bool) {
	r := &c.in
	for r.err == nil {
		message := r.byte()
		function = r.byte()
		r.byte() // its number
		switch {
		case r.err != nil:
		case message == 3:
			return function, true
		case message == 17 && (function == 105 || function == 120): // cursors that are not needed any more
			r.byte()
			for range min(r.number(), 1000) {
				delete(c.cursors, r.number())
			}
		default:
			return 0, false
		}
	}
	return 0, false
}

// answer serves one call; false ends the session.
func (c *oracleConn) answer() bool {
	function, ok := c.call()
	if !ok {
		return false
	}
	var w oracleWriter
	switch function {
	case 5: // further rows
		cursor, n := c.in.number(), c.in.number()
		r := c.cursors[cursor]
		if r == nil {
			return c.fail(1001, 0, "there is no such cursor at the practice server")
		}
		c.rows(&w, r, n)
		c.closing(&w, r, cursor)
	case 9:
		w.bytes(9, 0, 0)
		c.say(w)
		return false
	case 14, 15:
		verb := map[byte]string{14: "commit", 15: "rollback"}[function]
		if c.server.data.inTransaction(c.number) {
			_, _ = c.server.statement(c.conn, c.as, verb)
		}
		c.server.data.noteTransaction(c.as, verb)
		w.bytes(9, 0, 0)
	case 0x3b: // the version, for a driver that asks so
		c.in.rest = nil
		w.bytes(8)
		w.said("a practice server, version 19")
		w.number(19 << 24)
		w.bytes(9, 0, 0)
	case 94:
		return c.execute()
	case 147:
		w.bytes(9, 0, 0)
	default:
		return c.fail(3115, 0, "this practice server has no such call")
	}
	c.say(w)
	return c.in.err == nil
}

// later has a database opened after a while.
func (s *Server) OpenAfter(d time.Duration) *time.Timer {
	return time.AfterFunc(d, func() { s.Become(IsOpen) })
}
