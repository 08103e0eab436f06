package standin

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
)

// mysqlConn is one client of a practice server that speaks MySQL's protocol 4.1.
type mysqlConn struct {
	server *Server
	conn   net.Conn
	number uint32
	seq    byte
	nonce  []byte
	as     identity
	method string // the login method that the client answered

	statements int
	prepared   map[uint32]string // by their numbers
}

// after misbehaves at a statement after the first, as the faults ask for; false when they do not.
func (c *mysqlConn) after() bool {
	begin := func() {
		for _, p := range [][]byte{{1}, column("x", result{}, 0), {0xfe, 0, 0, 2, 0}} {
			_ = c.write(p)
		}
	}
	switch c.server.config.Faults.After {
	case "silence":
		wait(c.conn)
	case "endless":
		begin()
		for c.write([]byte{1, 'x'}) == nil {
		}
	case "giant":
		begin()
		for c.write(make([]byte, 0xffffff)) == nil {
		}
	default:
		return false
	}
	return true
}

func (s *Server) version() string {
	if s.config.Engine == "mariadb" {
		return "11.4.0-MariaDB-practice"
	}
	return "8.4.0-practice"
}

// Capabilities ("Capabilities Flags" in MySQL's source documentation).
const (
	capLongPassword = 0x1
	capConnectDB    = 0x8
	capProtocol41   = 0x200
	capSSL          = 0x800
	capTransactions = 0x2000
	capSecure       = 0x8000
	capPluginAuth   = 0x80000
	capConnectAttrs = 0x100000
	capLenencAuth   = 0x200000
)

func (c *mysqlConn) serve() {
	f := c.server.config.Faults
	if f.TooMany {
		c.refuse(1040, "08004", c.server.words("This practice server has no room for another connection", ""))
		return
	}
	refusal, _ := strconv.Atoi(f.Refusal)
	if refusal != 0 && f.Early {
		c.refuse(uint16(refusal), "HY000", c.server.words("refused for practice", ""))
		return
	}
	c.nonce = make([]byte, 20)
	_, _ = rand.Read(c.nonce)
	for i := range c.nonce {
		c.nonce[i] = c.nonce[i]&0x7f | 1
	}
	if c.greet() != nil {
		return
	}
	user, database, response, err := c.response()
	if err != nil {
		return
	}
	c.as = identity{user: user, database: database, client: "127.0.0.1", number: c.number}
	c.server.open(database)
	switch {
	case f.StallLogin:
		wait(c.conn)
		return
	case refusal != 0:
		c.refuse(uint16(refusal), "HY000", c.server.words("refused for practice", user))
		return
	case f.StartingUp:
		c.refuse(1053, "08S01", c.server.words("This practice server is shutting down", user))
		return
	case f.Locked:
		c.refuse(3118, "HY000", c.server.words(fmt.Sprintf("The practice account '%s' is locked", user), user))
		return
	}
	good, err := c.login(user, response)
	if err != nil {
		return
	}
	if !good || f.ErrorText != "" {
		c.refuse(1045, "28000", c.server.words(fmt.Sprintf("The practice server does not accept '%s' with this password",
			user), user))
		return
	}
	if database != "" && !c.server.has(database) {
		c.refuse(1049, "42000", noDatabase(database))
		return
	}
	if c.ok(0) != nil {
		return
	}
	for c.answer() {
	}
}

func (c *mysqlConn) write(payload []byte) error {
	header := []byte{byte(len(payload)), byte(len(payload) >> 8), byte(len(payload) >> 16), c.seq}
	c.seq++
	_, err := c.conn.Write(append(header, payload...))
	return err
}

func (c *mysqlConn) read() ([]byte, error) {
	header := make([]byte, 4)
	if _, err := io.ReadFull(c.conn, header); err != nil {
		return nil, err
	}
	size := int(header[0]) | int(header[1])<<8 | int(header[2])<<16
	if size > 1<<20 {
		return nil, errors.New("a packet that is too large")
	}
	c.seq = header[3] + 1
	payload := make([]byte, size)
	_, err := io.ReadFull(c.conn, payload)
	return payload, err
}

func (c *mysqlConn) greet() error {
	caps := uint32(capLongPassword | capConnectDB | capProtocol41 | capTransactions | capSecure | capPluginAuth | capConnectAttrs | capLenencAuth)
	if c.server.config.TLS != nil {
		caps |= capSSL
	}
	p := append([]byte{10}, c.server.version()...)
	p = append(p, 0)
	number := c.number
	if c.server.config.Faults.Pooled {
		number += 1000
	}
	p = binary.LittleEndian.AppendUint32(p, number)
	p = append(p, c.nonce[:8]...)
	p = append(p, 0)
	p = binary.LittleEndian.AppendUint16(p, uint16(caps))
	p = append(p, 45)
	p = binary.LittleEndian.AppendUint16(p, 2)
	p = binary.LittleEndian.AppendUint16(p, uint16(caps>>16))
	p = append(p, 21)
	p = append(p, make([]byte, 10)...)
	p = append(p, c.nonce[8:]...)
	p = append(p, 0)
	p = append(p, c.server.config.Login...)
	return c.write(append(p, 0))
}

// response reads the client's side of the handshake, encrypting first where it asks for that.
func (c *mysqlConn) response() (user, database string, auth []byte, err error) {
	p, err := c.read()
	if err != nil || len(p) < 32 {
		return "", "", nil, errors.New("no handshake response")
	}
	caps := binary.LittleEndian.Uint32(p)
	if caps&capSSL != 0 && len(p) == 32 {
		if c.server.config.TLS == nil {
			return "", "", nil, errors.New("encryption is not on offer")
		}
		encrypted := tls.Server(c.conn, c.server.config.TLS)
		if err := encrypted.Handshake(); err != nil {
			return "", "", nil, err
		}
		c.conn = encrypted
		if p, err = c.read(); err != nil || len(p) < 32 {
			return "", "", nil, errors.New("no handshake response")
		}
	}
	name, rest, ok := bytes.Cut(p[32:], []byte{0})
	if !ok || len(rest) < 1 || len(rest) < 1+int(rest[0]) {
		return "", "", nil, errors.New("a malformed handshake response")
	}
	auth, rest = rest[1:1+int(rest[0])], rest[1+int(rest[0]):]
	if caps&capConnectDB != 0 {
		var schema []byte
		schema, rest, _ = bytes.Cut(rest, []byte{0})
		database = string(schema)
	}
	if caps&capPluginAuth != 0 {
		method, _, _ := bytes.Cut(rest, []byte{0})
		c.method = string(method)
	}
	return string(name), database, auth, nil
}

func (c *mysqlConn) login(user string, response []byte) (bool, error) {
	password, known := c.server.account(user)
	f := c.server.config.Faults
	// the client answered another method than the account has
	if c.method != "" && c.method != c.server.config.Login && !f.AskNothing {
		if err := c.write(append(append(append([]byte{0xfe}, c.server.config.Login+"\x00"...), c.nonce...), 0)); err != nil {
			return false, err
		}
		var err error
		if response, err = c.read(); err != nil {
			return false, err
		}
	}
	switch {
	case f.AskNothing:
		return true, nil
	case c.server.config.Login == "sha256_password":
		if _, over := c.conn.(*tls.Conn); over {
			return c.compare(response, password, known), nil
		}
		return c.takeEncrypted(password, known)
	case f.AskClear:
		if err := c.write(append([]byte{0xfe}, "mysql_clear_password\x00"...)); err != nil {
			return false, err
		}
		shown, err := c.read()
		if err != nil {
			return false, err
		}
		return c.compare(shown, password, known), nil
	case c.server.config.Login == "mysql_native_password" && !f.OwnKey:
		return known && nativeMatches(password, c.nonce, response), nil
	}
	if len(response) == 0 || password == "" {
		return known && len(response) == 0 && password == "", nil
	}
	c.server.mu.Lock()
	cached := c.server.cached[user]
	c.server.mu.Unlock()
	if cached && known && cachingMatches(password, c.nonce, response) && !f.OwnKey {
		return true, c.write([]byte{1, 3})
	}
	good, err := c.fullLogin(password, known)
	if good {
		c.server.mu.Lock()
		c.server.cached[user] = true
		c.server.mu.Unlock()
	}
	return good, err
}

// compare notes a password that a client showed, and reports whether it is the right one.
func (c *mysqlConn) compare(shown []byte, password string, known bool) bool {
	text := strings.TrimSuffix(string(shown), "\x00")
	c.server.show(text)
	return known && text == password
}

// serverKey encrypts passwords that come over plain connections; it is made when first needed.
var serverKey = sync.OnceValues(func() (*rsa.PrivateKey, error) { return rsa.GenerateKey(rand.Reader, 2048) })

// fullLogin asks for the password itself (caching_sha2_password, "perform full authentication").
func (c *mysqlConn) fullLogin(password string, known bool) (bool, error) {
	if err := c.write([]byte{1, 4}); err != nil {
		return false, err
	}
	p, err := c.read()
	if err != nil {
		return false, err
	}
	if len(p) != 1 || p[0] != 2 {
		return c.compare(p, password, known), nil
	}
	return c.takeEncrypted(password, known)
}

// takeEncrypted sends the server's RSA key and takes the password that is encrypted with it.
func (c *mysqlConn) takeEncrypted(password string, known bool) (bool, error) {
	key, err := serverKey()
	if err != nil {
		return false, err
	}
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return false, err
	}
	if err := c.write(append([]byte{1},
		pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...)); err != nil {
		return false, err
	}
	p, err := c.read()
	if err != nil {
		return false, err
	}
	shown, err := rsa.DecryptOAEP(sha1.New(), rand.Reader, key, p, nil)
	if err != nil {
		return false, nil
	}
	for i := range shown {
		shown[i] ^= c.nonce[i%len(c.nonce)]
	}
	return c.compare(shown, password, known), nil
}

// nativeMatches checks SHA1(password) XOR SHA1(nonce + SHA1(SHA1(password))).
func nativeMatches(password string, nonce, response []byte) bool {
	if password == "" {
		return len(response) == 0
	}
	once := sha1.Sum([]byte(password))
	twice := sha1.Sum(once[:])
	mask := sha1.Sum(append(append([]byte{}, nonce...), twice[:]...))
	want := make([]byte, len(mask))
	subtle.XORBytes(want, once[:], mask[:])
	return subtle.ConstantTimeCompare(want, response) == 1
}

// cachingMatches checks SHA256(password) XOR SHA256(SHA256(SHA256(password)) + nonce).
func cachingMatches(password string, nonce, response []byte) bool {
	once := sha256.Sum256([]byte(password))
	twice := sha256.Sum256(once[:])
	mask := sha256.Sum256(append(twice[:], nonce...))
	want := make([]byte, len(mask))
	subtle.XORBytes(want, once[:], mask[:])
	return subtle.ConstantTimeCompare(want, response) == 1
}

func (c *mysqlConn) ok(affected int64) error {
	return c.write(append(lenenc([]byte{0}, uint64(affected)), 0, c.status(), 0, 0, 0))
}

// status gives the lower half of the server's status: autocommit is on, and whether a transaction
// is open.
func (c *mysqlConn) status() byte {
	if c.server.data.inTransaction(c.as.number) {
		return 3
	}
	return 2
}

func (c *mysqlConn) refuse(number uint16, state, message string) {
	p := binary.LittleEndian.AppendUint16([]byte{0xff}, number)
	if c.nonce != nil {
		p = append(append(p, '#'), state...)
	}
	_ = c.write(append(p, message...))
}

// answer serves one command; false ends the session.
func (c *mysqlConn) answer() bool {
	c.seq = 0
	p, err := c.read()
	if err != nil || len(p) == 0 {
		return false
	}
	switch p[0] {
	case 0x01:
		return false
	case 0x02:
		return c.use(string(p[1:]))
	case 0x03:
		return c.query(string(p[1:]))
	case 0x0e:
		return c.ok(0) == nil
	case 0x16:
		return c.prepare(string(p[1:]))
	case 0x17:
		return c.execute(p[1:])
	case 0x19:
		if len(p) == 5 {
			delete(c.prepared, binary.LittleEndian.Uint32(p[1:]))
		}
		return true
	}
	c.refuse(1047, "08S01", "This practice server has no such command")
	return true
}

func (c *mysqlConn) use(name string) bool {
	if !c.server.has(name) {
		c.refuse(1049, "42000", noDatabase(name))
		return true
	}
	c.as.database = name
	return c.ok(0) == nil
}

func (c *mysqlConn) query(text string) bool {
	if fields := strings.Fields(text); len(fields) == 2 && strings.EqualFold(fields[0], "use") {
		return c.use(strings.Trim(fields[1], "`;"))
	}
	if c.statements++; c.statements > 1 && c.after() {
		return false
	}
	r, err := result{}, error(errSeveral)
	if !several(text) {
		r, err = c.server.statement(c.conn, c.as, text)
	}
	if goesOn, ended := c.ended(r, err); ended {
		return goesOn
	}
	return c.result(r, func(row []any) []byte {
		var p []byte
		for _, value := range row {
			if value == nil {
				p = append(p, 0xfb)
				continue
			}
			p = text255(p, plain(value))
		}
		return p
	})
}

// ended answers a statement without rows; goesOn is false where the session ends.
func (c *mysqlConn) ended(r result, err error) (goesOn, ended bool) {
	switch {
	case errors.Is(err, errStalled):
		return false, true
	case err != nil:
		_, number, words := problem(err)
		c.refuse(number, "HY000", words)
		return true, true
	case r.columns == nil:
		return c.ok(r.affected) == nil, true
	}
	return true, false
}

// result sends a result whose rows are packed as the answer to a command has them.
func (c *mysqlConn) result(r result, pack func(row []any) []byte) bool {
	packets := [][]byte{lenenc(nil, uint64(len(r.columns)))}
	for i, name := range r.columns {
		packets = append(packets, column(name, r, i))
	}
	end := []byte{0xfe, 0, 0, c.status(), 0}
	packets = append(packets, end)
	for _, row := range r.rows {
		packets = append(packets, pack(row))
	}
	for _, p := range append(packets, end) {
		if c.write(p) != nil {
			return false
		}
	}
	return true
}

func column(name string, r result, i int) []byte {
	kind := byte(0xfd)
	for _, row := range r.rows {
		switch row[i].(type) {
		case int64:
			kind = 8
		case float64:
			kind = 5
		}
		if row[i] != nil {
			break
		}
	}
	p := text255(nil, "def")
	for _, part := range []string{"", "", "", name, name} {
		p = text255(p, part)
	}
	p = append(p, 0x0c, 45, 0)
	p = binary.LittleEndian.AppendUint32(p, 1024)
	return append(p, kind, 0, 0, 0, 0, 0)
}

func text255(p []byte, text string) []byte { return append(lenenc(p, uint64(len(text))), text...) }

// lenenc appends a length-encoded integer.
func lenenc(p []byte, n uint64) []byte {
	switch {
	case n < 251:
		return append(p, byte(n))
	case n < 1<<16:
		return append(p, 0xfc, byte(n), byte(n>>8))
	case n < 1<<24:
		return append(p, 0xfd, byte(n), byte(n>>8), byte(n>>16))
	}
	return binary.LittleEndian.AppendUint64(append(p, 0xfe), n)
}
