package standin

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// oracleLogin is the server's side of a login: what it has stored of the password, its half of
// the session's key, and what both halves come to.
type oracleLogin struct {
	kind      int // the verifier's number
	salt, mix []byte
	rounds    int
	key       []byte // of the password
	half      []byte
	session   []byte
	password  string
	known     bool
}

// The numbers of verifiers.
const (
	verifier10 = 2361
	verifier11 = 6949
	verifier12 = 18453
)

func cbc(key, data []byte, encrypt bool) []byte {
	block, err := aes.NewCipher(key)
	if err != nil || len(data)%16 != 0 {
		return nil
	}
	out := make([]byte, len(data))
	if encrypt {
		cipher.NewCBCEncrypter(block, make([]byte, 16)).CryptBlocks(out, data)
	} else {
		cipher.NewCBCDecrypter(block, make([]byte, 16)).CryptBlocks(out, data)
	}
	return out
}

func chance(n int) []byte {
	data := make([]byte, n)
	_, _ = rand.Read(data)
	return data
}

// newOracleLogin makes the server's first word. An account that there is not gets one as well.
func (c *oracleConn) newOracleLogin(user string) *oracleLogin {
	f := c.server.config.Faults
	l := &oracleLogin{kind: verifier12, salt: chance(16), rounds: 4096}
	if l.password, l.known = c.server.account(strings.ToLower(user)); !l.known {
		l.password = hex.EncodeToString(chance(16))
	}
	if f.Rounds != 0 {
		l.rounds = f.Rounds
	}
	switch c.server.config.Login {
	case "verifier-10g":
		l.kind = verifier10
	case "verifier-11g", "verifier-11g-old":
		l.kind, l.salt = verifier11, chance(10)
	}
	if l.kind == verifier12 {
		stretched, _ := pbkdf2.Key(sha512.New, l.password,
			append(slices.Clone(l.salt), "AUTH_PBKDF2_SPEEDY_KEY"...), min(l.rounds, 4096), 64)
		sum := sha512.Sum512(append(stretched, l.salt...))
		l.key = sum[:32]
	} else {
		sum := sha1.Sum(append([]byte(l.password), l.salt...))
		l.key = append(sum[:], 0, 0, 0, 0)
	}
	l.half, l.mix = chance(32), chance(16)
	if c.server.config.Login == "verifier-11g-old" { // as servers before 12c
		l.half, l.mix = chance(48), nil
	}
	return l
}

func upperHex(data []byte) string { return strings.ToUpper(hex.EncodeToString(data)) }

// mixed gives the session's key of the server's half and the client's.
func (l *oracleLogin) mixed(theirs []byte) []byte {
	size := 24
	if l.kind == verifier12 {
		size = 32
	}
	if l.mix != nil {
		key, _ := pbkdf2.Key(sha512.New, upperHex(append(slices.Clone(theirs[:size]), l.half[:size]...)), l.mix, 3, size)
		return key
	}
	var both [24]byte
	for i := range both {
		both[i] = l.half[16+i] ^ theirs[16+i]
	}
	first, second := md5.Sum(both[:16]), md5.Sum(both[16:])
	return append(first[:], second[:]...)[:24]
}

// check takes the client's answer: its half of the key, and the password encrypted with the whole.
func (l *oracleLogin) check(told map[string]string) bool {
	raw := func(name string) []byte {
		data, _ := hex.DecodeString(told[name])
		return data
	}
	theirs := cbc(l.key, raw("AUTH_SESSKEY"), false)
	if len(theirs) < len(l.half) {
		return false
	}
	l.session = l.mixed(theirs)
	plain := cbc(l.session, raw("AUTH_PASSWORD"), false)
	if len(plain) < 32 {
		return false
	}
	n := int(plain[len(plain)-1])
	if n < 1 || n > 16 || n > len(plain)-16 {
		return false
	}
	return l.known && bytes.Equal(plain[16:len(plain)-n], []byte(l.password))
}

// pairs reads the user, the mode and the pairs of a login.
func (c *oracleConn) pairs() (user string, mode int, told map[string]string) {
	r := &c.in
	r.byte()
	named := r.number()
	mode = r.number()
	r.byte()
	n := r.number()
	r.raw(2)
	if named > 0 {
		user = r.text()
	}
	told = map[string]string{}
	for range min(n, 100) {
		name := r.said()
		told[name] = r.said()
		r.number()
	}
	return user, mode, told
}

// login serves a login; false ends the connection.
func (c *oracleConn) login() bool {
	f := c.server.config.Faults
	function, ok := c.call()
	if !ok || function != 118 {
		return false
	}
	user, _, about := c.pairs()
	c.server.open(c.as.database)
	if c.in.err != nil || f.StallLogin {
		wait(c.conn)
		return false
	}
	l := c.newOracleLogin(user)
	var w oracleWriter
	w.bytes(8)
	parts := [][2]string{{"AUTH_SESSKEY", upperHex(cbc(l.key, l.half, true))}, {"AUTH_VFR_DATA", upperHex(l.salt)}}
	if l.mix != nil {
		parts = append(parts, [2]string{"AUTH_PBKDF2_CSK_SALT", upperHex(l.mix)},
			[2]string{"AUTH_PBKDF2_VGEN_COUNT", strconv.Itoa(l.rounds)}, [2]string{"AUTH_PBKDF2_SDER_COUNT", "3"})
	}
	w.number(len(parts))
	for _, each := range parts {
		flags := 0
		if each[0] == "AUTH_VFR_DATA" {
			flags = l.kind
		}
		w.pair(each[0], each[1], flags)
	}
	w.ended(c, 0, 0, 0, 0, "")
	c.say(w)
	if function, ok = c.call(); !ok || function != 115 {
		return false
	}
	_, mode, told := c.pairs()
	if c.in.err != nil {
		return false
	}
	for name, value := range about {
		if _, twice := told[name]; !twice {
			told[name] = value
		}
	}
	right := l.check(told)
	delete(told, "AUTH_PASSWORD")
	c.server.mu.Lock()
	c.server.about = told
	c.server.mu.Unlock()
	if number, words := c.refusal(user, mode, right); number != 0 {
		c.fail(number, 0, c.server.words(words, strings.ToLower(user)))
		return false
	}
	c.as.user, c.as.client, c.as.number = strings.ToUpper(user), "127.0.0.1", c.number
	c.letIn(l)
	return true
}

// refusal gives the number with which a login is refused, 0 for none.
func (c *oracleConn) refusal(user string, mode int, right bool) (int, string) {
	f, state := c.server.config.Faults, c.server.state()
	privileged := mode&0x60 != 0
	super := strings.EqualFold(user, c.server.config.Superuser)
	number, _ := strconv.Atoi(f.Refusal)
	switch {
	case f.ErrorText != "" || !right && !f.AskNothing:
		return 1017, fmt.Sprintf("the practice server does not accept %s with this password", user)
	case number != 0 && !f.Early:
		return number, "refused for practice"
	case f.Locked:
		return 28000, fmt.Sprintf("the practice account %s is locked", user)
	case privileged && !super:
		return 1031, "the practice account has no privileged mode"
	case strings.EqualFold(user, "sys") && !privileged:
		return 28009, "the practice account logs in with a privileged mode alone"
	case slices.Contains(c.server.config.Shut, strings.ToLower(user)):
		return 1045, fmt.Sprintf("the practice account %s may open no session", user)
	case state == IsStopped:
		return 1034, "the practice database is stopped"
	case (state == IsMounted || state == IsStarted || f.StartingUp) && !privileged:
		return 1033, "the practice database is starting or stopping"
	case state == IsRestricted && !super:
		return 1035, "the practice database is open for its administrators alone"
	}
	c.sys = privileged
	return 0, ""
}

// letIn says that the login is granted, and proves that the account is known.
func (c *oracleConn) letIn(l *oracleLogin) {
	f := c.server.config.Faults
	proof := cbc(l.session, append(chance(16), "SERVER_TO_CLIENT"...), true)
	name := c.as.database
	told := [][2]string{
		{"AUTH_VERSION_NO", strconv.Itoa(19<<24 | 3<<16)}, {"AUTH_SESSION_ID", strconv.Itoa(int(c.number))},
		{"AUTH_SERIAL_NUM", "7"}, {"AUTH_DB_ID", strconv.FormatInt(4100000001+c.server.config.Identity, 10)},
		{"AUTH_DBNAME", strings.ToUpper(name)}, {"AUTH_SC_SERVICE_NAME", name},
		{"AUTH_SC_INSTANCE_NAME", c.server.instance()}, {"AUTH_INSTANCENAME", c.server.instance()},
		{"AUTH_SC_DBUNIQUE_NAME", "huts"}, {"AUTH_SC_SERVER_HOST", "practice"}, {"AUTH_SC_DB_DOMAIN", ""},
		{"AUTH_MAX_OPEN_CURSORS", "300"}, {"AUTH_MAX_IDEN_LENGTH", "128"},
	}
	switch f.Unproven {
	case "no proof":
	case "wrong proof":
		told = append(told, [2]string{"AUTH_SVR_RESPONSE", upperHex(chance(48))})
	default:
		told = append(told, [2]string{"AUTH_SVR_RESPONSE", upperHex(append(proof, chance(16)...))})
	}
	var w oracleWriter
	w.bytes(8)
	w.number(len(told))
	for _, each := range told {
		w.pair(each[0], each[1], 0)
	}
	w.bytes(23, 5) // settings of the session
	w.number(2)
	w.bytes(0)
	w.number(1)
	w.bytes(0)
	w.pair("AUTH_NLS_LXLAN", "AMERICAN", 16)
	w.number(0)
	if f.Expires != "" {
		text := "ORA-28002: " + f.Expires
		w.bytes(15)
		w.number(28002)
		w.number(len(text))
		w.number(0)
		w.text(text)
	}
	w.ended(c, 0, 0, 0, 0, "")
	c.say(w)
}
