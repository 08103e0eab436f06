package mysql

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// greetingLimit bounds the first packet, loginLimit each later one until the login is granted.
// Real ones have some hundred bytes; the largest is an RSA key.
const (
	greetingLimit = 4 << 10
	loginLimit    = 64 << 10
)

// Flags and markers of the protocol ("Client/Server Protocol", MySQL source documentation).
const (
	clientMySQL      = 0x1   // in the capabilities: none of MariaDB's own
	clientSSL        = 0x800 // in the capabilities: an SSL request comes first
	clientLocalFiles = 0x80  // in the capabilities: the server may ask for files of the client's

	firstAnswer = 1 // the number of the client's first packet; later ones carry answers to methods, whose bytes are theirs

	challengeSize = 32 // bytes that client_ed25519 signs

	packetOK      = 0x00
	packetMore    = 0x01 // more data for the login method
	packetSwitch  = 0xfe // use another login method
	packetErr     = 0xff
	quickLogin    = 0x03 // after packetMore, caching_sha2_password: the answer was right
	fullLogin     = 0x04 // after packetMore, caching_sha2_password: show the password
	wantsKey      = 0x02 // the client's only byte: send your RSA key
	wantsFile     = 0xfb // in answer to a statement: send a file
	handshakeV10  = 10
	sslRequestLen = 32
)

// Login methods. All others that a server may name are refused by name.
const (
	native    = "mysql_native_password"
	caching   = "caching_sha2_password"
	curve     = "client_ed25519"
	sha256    = "sha256_password"
	clearText = "mysql_clear_password"
)

// shows reports whether a login method shows the password to the server from the start.
// (caching_sha2_password does so only when the server asks for it, which wire sees then.)
func shows(method string) bool { return method == sha256 || method == clearText }

// state is how far the login has come: it says which packets the server may send next.
type state int

const (
	silent    state = iota // nothing was said
	answering              // our answer to the login method is there, or on its way
	showing                // caching_sha2_password: we show the password, or ask for the server's key first
	lastWord               // only a yes or a no may come
	granted                // the server said yes
)

// wire stands between the driver and the connection until the login is granted. The driver is
// told of no encryption: wire makes it, underneath, when the driver sends its first packet, and
// shifts the packets' sequence numbers by the one that the request for encryption takes. So it
// sees each packet of the login in plain. It lets pass only what may come in each [state], and
// the driver has no password until the server has named a login method for which it may be used.
type wire struct {
	net.Conn
	ctx    context.Context
	login  engine.Login
	line   engine.Line
	watch  engine.Watch
	driver *mysql.Config // the driver's own copy; it reads the password there when it needs it

	ours     bool // the login is this program's own, and no client's of a door
	greeted  bool
	state    state
	switched bool // the server has named a second login method
	asked    bool // we asked for the server's RSA key
	proven   bool // the server answered as one that has looked at the password
	released bool // the driver has the password
	shift    byte
	held     []byte // packets read, checked, and not yet given to the driver
	stopped  error  // what ended the conversation from our side
	method   string
	version  string
	number   uint32 // of the session, as the greeting says
	product  string
	offers   bool // the server can encrypt
	packets  packets
	saw      string

	offered  uint32 // the server's capabilities, and MariaDB's own
	extended uint32
}

// Read implements net.Conn for the driver: whole packets until the login is granted, bytes from
// then on.
func (w *wire) Read(p []byte) (int, error) {
	if w.stopped != nil {
		return 0, w.stopped
	}
	for len(w.held) == 0 {
		if w.state == granted {
			return w.packets.Read(p)
		}
		if err := w.packet(); err != nil {
			w.stopped = err
			return 0, err
		}
	}
	n := copy(p, w.held)
	w.held = w.held[n:]
	return n, nil
}

// packet reads the next packet of the login, and fails when it is none that may come.
func (w *wire) packet() error {
	if !w.greeted {
		return w.greeting()
	}
	header := make([]byte, 4)
	if _, err := io.ReadFull(w.Conn, header); err != nil {
		return err
	}
	size := length(header)
	if size > loginLimit || size == 0 {
		return engine.Malformed(fmt.Sprintf("a packet of %d bytes during the login", size))
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(w.Conn, body); err != nil {
		return err
	}
	if err := w.step(body); err != nil {
		return err
	}
	header[3] -= w.shift
	if w.ours && body[0] == packetSwitch && w.method == curve && len(body) == len(curve)+2+challengeSize {
		// The driver cuts a last zero, which ends the challenges of other methods; it is a part
		// of one in 256 of these.
		body = append(body, 0)
		header[0]++
	}
	w.held = append(header, body...)
	return nil
}

// step follows one packet of the server's after its greeting.
func (w *wire) step(body []byte) error {
	switch kind := body[0]; {
	case kind == packetErr:
		return nil
	case kind == packetOK && w.state != silent && w.state != showing:
		return w.grant()
	case kind == packetSwitch && w.state == answering && !w.switched:
		w.switched = true
		name, _, _ := strings.Cut(string(body[1:]), "\x00")
		if name == "" {
			name = "mysql_old_password"
		}
		return w.choose(name)
	case kind == packetMore && w.state == answering && w.method == caching && len(body) == 2 && body[1] == quickLogin:
		w.state, w.proven = lastWord, true
		return nil
	case kind == packetMore && w.state == answering && w.method == caching && len(body) == 2 && body[1] == fullLogin:
		if err := w.show(); err != nil {
			return err
		}
		w.state, w.proven = showing, true
		return nil
	case kind == packetMore && w.state == showing && w.asked,
		kind == packetMore && w.state == answering && w.method == sha256 && w.released:
		w.state, w.proven = lastWord, true // the server's RSA key
		return nil
	}
	return engine.Malformed(fmt.Sprintf("a packet of kind 0x%02x that may not come at this point of the login", body[0]))
}

// grant notes that the server has let us in, and by which login method.
func (w *wire) grant() error {
	sent := w.released && w.driver.Passwd != ""
	if !sent || w.method == caching && !w.proven {
		// The server did not look at a password: it was sent none, or it left out the step that
		// says so.
		if !w.login.Accepts(engine.NothingAsked) {
			return w.unsupported("one that asks for nothing")
		}
		if w.line.Given && (sent || !w.released) {
			w.method = engine.Unasked
		}
	}
	w.state = granted
	w.packets.from, w.packets.to = bufio.NewReaderSize(w.Conn, 64<<10), w.Conn
	w.watch("login", "as "+w.login.User+": "+w.method)
	return nil
}

// choose takes a login method that the server names, and gives the driver the password when it
// may be used for it.
func (w *wire) choose(method string) error {
	w.method = method
	switch {
	case Engine{}.Info().Method(method) != method:
		return w.unsupported(method)
	case !w.line.Given:
		return nil // the driver has nothing to send
	case !w.login.Accepts(method) && w.switched:
		return w.unsupported(method)
	case !w.login.Accepts(method), method == curve && !w.switched:
		// The greeting names what most accounts use. The server names another when this account's
		// is another, and the driver answers with an empty password until then.
		return nil
	}
	if shows(method) {
		if err := w.show(); err != nil {
			return err
		}
	}
	w.released = true
	w.driver.Passwd = w.line.Release(method)
	return nil
}

// show fails where the password may not be shown to the server.
func (w *wire) show() error {
	about := finding.Facts{finding.FactMethod: w.method}
	switch {
	case !w.line.Given:
		return &finding.Problem{Code: finding.LoginPasswordWanted, Facts: about}
	case !w.line.MayShow:
		return &finding.Problem{Code: finding.LoginWouldShowPassword, Facts: about}
	}
	return nil
}

func (w *wire) unsupported(method string) error {
	about := finding.Facts{finding.FactMethod: method}
	if len(w.login.Methods) > 0 {
		about[finding.FactAccepted] = strings.Join(w.login.Methods, ", ")
	}
	return &finding.Problem{Code: finding.LoginMethodNotSupported, Facts: about}
}

func length(header []byte) int {
	return int(header[0]) | int(header[1])<<8 | int(header[2])<<16
}

// begins reports whether some first bytes can be the beginning of a greeting: a short packet, the
// first one, of the protocol that is known.
func begins(first []byte) bool {
	for i, b := range first[1:min(len(first), 5)] {
		if b != [4]byte{0, 0, 0, handshakeV10}[i] {
			return false
		}
	}
	return true
}

// greeting reads the server's first packet and refuses what no server of this family says.
func (w *wire) greeting() error {
	first := make([]byte, 512)
	n, err := io.ReadAtLeast(w.Conn, first, 5)
	if n == 0 {
		return err
	}
	first = first[:n]
	if err != nil && finding.Silent(w.ctx, err) && begins(first) {
		return err // what came so far may be a greeting's
	}
	if err != nil {
		return engine.Unexpected(first) // too short for a greeting
	}
	size := length(first[:4])
	if size < 3 || size > greetingLimit || first[3] != 0 || first[4] != handshakeV10 && first[4] != packetErr {
		return engine.Unexpected(first)
	}
	for len(first) < 4+size {
		more := make([]byte, 4+size-len(first))
		n, err := w.Conn.Read(more)
		first = append(first, more[:n]...)
		if err != nil && n == 0 {
			return engine.Unexpected(first)
		}
	}
	if len(first) > 4+size {
		return engine.Unexpected(nil) // a server waits for us after its greeting
	}
	w.greeted, w.held = true, first
	if first[4] == packetErr {
		number := binary.LittleEndian.Uint16([]byte{first[5], first[6]})
		if code := byNumber[number]; code != "" && code.Leg() != "greeting" {
			w.watch("greeting", "a MySQL or MariaDB server, which answers with an error")
		}
		return nil
	}
	if !w.read(first[4:]) {
		return engine.Unexpected(nil)
	}
	w.watch("greeting", "a "+w.product+" server, "+w.version)
	if w.line.TLS != nil && !w.offers {
		return &finding.Problem{Code: finding.TLSNotOffered}
	}
	if err := w.choose(w.method); err != nil {
		return err
	}
	w.state = answering
	return nil
}

// read takes the greeting's fields; false when it is too short for what it says it holds.
func (w *wire) read(body []byte) bool {
	found, known := identify(append([]byte{byte(len(body)), byte(len(body) >> 8), 0, 0}, body...))
	version, rest, ok := strings.Cut(string(body[1:]), "\x00")
	// After the version: thread id 4, scramble 8, filler 1, capabilities 2, character set 1, status 2,
	// capabilities 2, length of scramble 1, reserved 10, scramble 13, name of the login method.
	if !known || !ok || version == "" || len(rest) < 44 {
		return false
	}
	w.version, w.product, w.number = found.Version, "MySQL", binary.LittleEndian.Uint32([]byte(rest))
	if found.Kind == "mariadb" {
		w.product = "MariaDB"
	}
	w.offered = uint32(binary.LittleEndian.Uint16([]byte(rest[13:15]))) | uint32(binary.LittleEndian.Uint16([]byte(rest[18:20])))<<16
	w.offers = w.offered&clientSSL != 0
	if w.offered&clientMySQL == 0 {
		w.extended = binary.LittleEndian.Uint32([]byte(rest[27:31]))
		if w.ours { // the driver would have the server leave definitions out that it has sent before
			clear(body[len(body)-len(rest)+27:][:4])
		}
	}
	if w.method, _, _ = strings.Cut(rest[44:], "\x00"); w.method == "" {
		w.method = native // so the driver reads it too
	}
	return true
}

// Write implements net.Conn for the driver, which writes a whole packet at a time.
func (w *wire) Write(p []byte) (int, error) {
	if w.stopped != nil {
		return 0, w.stopped
	}
	if w.state == granted {
		if _, err := w.Conn.Write(w.packets.sent(p)); err != nil {
			return 0, err
		}
		return len(p), nil
	}
	packet := append([]byte(nil), p...)
	if w.ours && len(packet) > 4+handshakeResponseMin && packet[3] == firstAnswer {
		w.announce(packet[4:])
	}
	if w.state == showing {
		if w.asked = len(p) == 5 && p[4] == wantsKey; !w.asked {
			w.state = lastWord
		}
	}
	if w.line.TLS != nil {
		packet = w.inTheOpen(packet)
		if w.shift == 0 {
			if err := w.encrypt(packet); err != nil {
				w.stopped = err
				return 0, err
			}
			w.shift = 1
			packet[5] |= clientSSL >> 8
		}
		packet[3] += w.shift
	}
	if _, err := w.Conn.Write(packet); err != nil {
		return 0, err
	}
	return len(p), nil // however long it became
}

// announce sets what we announce in the driver's first packet: not to read files for the server,
// which the driver offers, unless statements of this session name some; to be told of changes in
// the session; and MariaDB's extended metadata, where the server has them.
func (w *wire) announce(response []byte) {
	flags := binary.LittleEndian.Uint32(response) | w.offered&clientSessionTrack
	if !w.login.Files {
		flags &^= clientLocalFiles
	}
	binary.LittleEndian.PutUint32(response, flags)
	w.packets.noEOF, w.packets.tracks = flags&clientDeprecateEOF != 0, flags&clientSessionTrack != 0
	if flags&clientMySQL == 0 {
		w.packets.extends = w.extended&extendedMetadata != 0
		binary.LittleEndian.PutUint32(response[28:], w.extended&extendedMetadata)
	}
}

// inTheOpen puts the password into a packet instead of the request for the server's key, which
// the driver makes since it knows of no encryption: over an encrypted connection a server takes
// the password as it is ("SHA-256 Pluggable Authentication").
func (w *wire) inTheOpen(packet []byte) []byte {
	if w.method != sha256 || !w.released || w.state != answering {
		return packet
	}
	body := packet[4:]
	switch at := -1; {
	case w.shift != 0 && len(body) == 1 && body[0] == asksForKey:
		body = append([]byte(w.driver.Passwd), 0)
	case w.shift == 0 && len(body) > handshakeResponseMin:
		if at = answerAt(body); at < 0 || body[at] != 1 || body[at+1] != asksForKey || len(w.driver.Passwd) > 249 {
			return packet
		}
		rest := slices.Clone(body[at+2:])
		body = append(append(append(slices.Clone(body[:at]), byte(len(w.driver.Passwd)+1)), w.driver.Passwd...), 0)
		body = append(body, rest...)
	default:
		return packet
	}
	return append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), packet[3]}, body...)
}

// encrypt sends the request for encryption, which is the head of the first packet, and makes the
// handshake.
func (w *wire) encrypt(response []byte) error {
	if len(response) < 4+sslRequestLen {
		return engine.Malformed("a login packet that is too short")
	}
	request := append([]byte{sslRequestLen, 0, 0, response[3]}, response[4:4+sslRequestLen]...)
	request[5] |= clientSSL >> 8
	if _, err := w.Conn.Write(request); err != nil {
		return engine.Broken(w.ctx, "tls", err)
	}
	encrypted, saw, err := engine.Encrypt(w.ctx, w.Conn, w.line.TLS)
	if err != nil {
		return err
	}
	w.Conn, w.saw = encrypted, saw
	w.watch("tls", saw)
	return nil
}
