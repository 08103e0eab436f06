package oracle

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/hex"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// The login methods, by the form in which the server has stored the password: its verifier. The
// form of 10g and earlier versions, in which capital letters do not count, is refused by name.
const (
	newVerifier = "verifier-12c"
	oldVerifier = "verifier-11g"
	oldest      = "verifier-10g"
)

// verifiers are the numbers that servers have for them (go-ora, auth_object.go; node-oracledb,
// lib/thin/protocol/constants.js).
var verifiers = map[int64]string{2361: oldest, 6949: oldVerifier, 45394: oldVerifier, 18453: newVerifier}

// What a client asks for at the login.
const (
	modeLogIn    = 0x1
	modeSysdba   = 0x20
	modeSysoper  = 0x40
	modePassword = 0x100
)

// modes are the privileged modes, as roles of a profile.
var modes = map[string]int{"sysdba": modeSysdba, "sysoper": modeSysoper}

// The last words of the server's proof, and a part of what the newer verifier's key is made from.
const (
	proofText = "SERVER_TO_CLIENT"
	speedy    = "AUTH_PBKDF2_SPEEDY_KEY"
)

// keys are what a login is made from: the server's half of the key of this session, as the server
// has sent it, with what the verifier needs, and ours.
type keys struct {
	method string
	salt   []byte
	theirs []byte // encrypted with the password's key
	mix    []byte // what both halves are mixed with, nil for the older way
	rounds int    // of the password's hash
	mixing int    // of the key's
	reply  []byte // what is sent of the hash, for the newer verifier
	ours   []byte // encrypted with the password's key
	secret []byte // the password, encrypted with the session's key
	whole  []byte // the session's key
}

// crypt makes AES in CBC mode with a first block of zeros (NIST SP 800-38A, section 6.2); the
// data has whole blocks.
func crypt(key, data []byte, encrypt bool) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	out := make([]byte, len(data))
	if first := make([]byte, aes.BlockSize); encrypt {
		cipher.NewCBCEncrypter(block, first).CryptBlocks(out, data)
	} else {
		cipher.NewCBCDecrypter(block, first).CryptBlocks(out, data)
	}
	return out, nil
}

// padded fills the last block as PKCS #7 does (RFC 5652, section 6.3).
func padded(data []byte) []byte {
	n := aes.BlockSize - len(data)%aes.BlockSize
	for range n {
		data = append(data, byte(n))
	}
	return data
}

// answer computes what the client says to the server's half. The password's key is SHA-1 of the
// password and the salt for the older verifier; for the newer one SHA-512 of PBKDF2 (RFC 8018) of
// both, and the salt. Both halves of the session's key are encrypted with it. The session's key
// is PBKDF2 of both halves, or for servers that do not mix so, MD5 of one half XOR the other
// (go-ora, auth_object.go; node-oracledb, lib/thin/protocol/encryptDecrypt.js).
func (k *keys) answer(password string) error {
	var of []byte
	var hash []byte
	size := 24
	if k.method == newVerifier {
		size = 32
		var err error
		if hash, err = pbkdf2.Key(sha512.New, password, append([]byte(nil), append(k.salt, speedy...)...),
			k.rounds, 64); err != nil {
			return err
		}
		sum := sha512.Sum512(append(append([]byte(nil), hash...), k.salt...))
		of = sum[:size]
	} else {
		sum := sha1.Sum(append([]byte(password), k.salt...))
		of = append(sum[:], 0, 0, 0, 0)
	}
	theirs, err := crypt(of, k.theirs, false)
	if err != nil {
		return err
	}
	ours := make([]byte, len(theirs))
	if _, err := rand.Read(ours); err != nil {
		return err
	}
	if k.ours, err = crypt(of, ours, true); err != nil {
		return err
	}
	if k.whole, err = mixed(theirs, ours, k.mix, k.mixing, size); err != nil {
		return err
	}
	return k.hide(password, hash)
}

// mixed gives the session's key of both halves.
func mixed(theirs, ours, mix []byte, rounds, size int) ([]byte, error) {
	if mix != nil {
		both := append(append([]byte(nil), ours[:size]...), theirs[:size]...)
		return pbkdf2.Key(sha512.New, strings.ToUpper(hex.EncodeToString(both)), mix, rounds, size)
	}
	part := make([]byte, 24)
	for i := range part {
		part[i] = theirs[16+i] ^ ours[16+i]
	}
	first, second := md5.Sum(part[:16]), md5.Sum(part[16:])
	return append(first[:], second[:]...)[:size], nil
}

// hide encrypts the password, and the hash of it that the newer verifier wants, with the
// session's key: each behind a block of chance.
func (k *keys) hide(password string, hash []byte) error {
	chance := make([]byte, 2*aes.BlockSize)
	if _, err := rand.Read(chance); err != nil {
		return err
	}
	var err error
	if k.secret, err = crypt(k.whole, padded(append(chance[:aes.BlockSize:aes.BlockSize], password...)),
		true); err != nil || hash == nil {
		return err
	}
	k.reply, err = crypt(k.whole, append(chance[aes.BlockSize:], hash...), true)
	return err
}

// proves reports whether the server's last word shows that it has the session's key, which only
// who knows the account's verifier can.
func (k *keys) proves(word string) bool {
	data, err := hex.DecodeString(word)
	if err != nil || len(data) < 2*aes.BlockSize || len(data)%aes.BlockSize != 0 || len(data) > 1<<10 {
		return false
	}
	plain, err := crypt(k.whole, data, false)
	return err == nil && subtle.ConstantTimeCompare(plain[aes.BlockSize:2*aes.BlockSize], []byte(proofText)) == 1
}

// challenge takes the server's first answer apart. The error is a *finding.Problem.
func (s *session) challenge(told map[string]string, verifier int64) (*keys, error) {
	k := &keys{method: verifiers[verifier], rounds: 4096, mixing: 3}
	about := finding.Facts{finding.FactMethod: k.method}
	if k.method == "" {
		about[finding.FactMethod] = "a verifier with the number " + strconv.FormatInt(verifier, 10)
	}
	if len(s.login.Methods) > 0 && !s.login.Accepts(k.method) {
		about[finding.FactAccepted] = strings.Join(s.login.Methods, ", ")
	}
	switch {
	case k.method == oldest:
		return nil, &finding.Problem{Code: finding.LoginOldVerifier, Facts: about}
	case k.method == "", about[finding.FactAccepted] != "":
		return nil, &finding.Problem{Code: finding.LoginMethodNotSupported, Facts: about}
	}
	var wrong bool
	bytesOf := func(name string, sizes ...int) []byte {
		data, err := hex.DecodeString(told[name])
		fits := err == nil
		for i, size := range sizes {
			if fits = err == nil && len(data) == size; fits || i == len(sizes)-1 {
				break
			}
		}
		wrong = wrong || !fits
		return data
	}
	numberOf := func(name string, usual int) int {
		if told[name] == "" {
			return usual
		}
		n, err := strconv.Atoi(told[name])
		wrong = wrong || err != nil || n < 1
		return n
	}
	k.salt, k.theirs = bytesOf("AUTH_VFR_DATA"), bytesOf("AUTH_SESSKEY", 32, 48)
	if wrong = wrong || len(k.salt) == 0 || len(k.salt) > 64; len(k.theirs) == 32 {
		k.mix = bytesOf("AUTH_PBKDF2_CSK_SALT", 16)
		k.mixing = numberOf("AUTH_PBKDF2_SDER_COUNT", k.mixing)
	}
	if k.method == newVerifier {
		k.rounds = numberOf("AUTH_PBKDF2_VGEN_COUNT", k.rounds)
		wrong = wrong || len(k.theirs) != 32
	}
	if wrong {
		return nil, engine.Malformed("a login whose parts do not fit together")
	}
	for _, n := range []int{k.rounds, max(k.mixing, engine.LeastRounds)} {
		if k.method == oldVerifier && n == k.rounds {
			continue // it has no rounds of the password
		}
		if err := (engine.Rounds{Method: k.method, Hash: sha512.New, N: n, Unverified: s.line.Unverified,
			Limit: s.login.Leg}).Check(); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// about writes what is said of this machine and its user at a login.
func (w *writer) about() {
	for _, name := range []string{"AUTH_TERMINAL", "AUTH_PROGRAM_NM", "AUTH_MACHINE"} {
		w.pair(name, program, 0)
	}
	w.pair("AUTH_PID", "0", 0)
	w.pair("AUTH_SID", program, 0)
}

// partsOfAbout is how many pairs about writes.
const partsOfAbout = 5

// logIn logs in with the password, and checks that the server knows the account.
func (s *session) logIn(ctx context.Context) error {
	over := s.stream.during(ctx)
	defer over()
	if !s.line.Given {
		return &finding.Problem{Code: finding.LoginPasswordWanted}
	}
	mode := modeLogIn | modes[s.login.Role]
	w := s.call(callBeginning)
	w.bytes(1)
	w.number(len(s.login.User))
	w.number(mode)
	w.bytes(1)
	w.number(partsOfAbout)
	w.bytes(1, 1)
	w.text([]byte(s.login.User))
	w.about()
	told, verifier := map[string]string{}, int64(0)
	err := s.exchange(ctx, "login", w, func(name, value string, flags int64) {
		if _, twice := told[name]; !twice {
			if told[name] = value; name == "AUTH_VFR_DATA" {
				verifier = flags
			}
		}
	})
	if err != nil {
		return err
	}
	k, err := s.challenge(told, verifier)
	if err != nil {
		return err
	}
	s.method = k.method
	password := s.line.Release(k.method)
	if password == "" {
		return &finding.Problem{Code: finding.LoginPasswordWanted}
	}
	if err := k.answer(password); err != nil {
		return &finding.Problem{Code: finding.LoginUnknown, Err: err}
	}
	upper := func(data []byte) string { return strings.ToUpper(hex.EncodeToString(data)) }
	pairs := [][3]string{{"AUTH_SESSKEY", upper(k.ours), "1"}}
	if k.reply != nil {
		pairs = append(pairs, [3]string{speedy, upper(k.reply)})
	}
	pairs = append(pairs, [3]string{"AUTH_PASSWORD", upper(k.secret)},
		[3]string{"SESSION_CLIENT_CHARSET", strconv.Itoa(charset)}, [3]string{"SESSION_CLIENT_LIB_TYPE", "0"},
		[3]string{"SESSION_CLIENT_DRIVER_NAME", program}, [3]string{"SESSION_CLIENT_VERSION", "1"},
		[3]string{"SESSION_CLIENT_LOBATTR", "1"},
		[3]string{"AUTH_ALTER_SESSION",
			"ALTER SESSION SET NLS_LANGUAGE='AMERICAN' NLS_TERRITORY='AMERICA' TIME_ZONE='+00:00'\x00", "1"})
	w = s.call(callLogIn)
	w.bytes(1)
	w.number(len(s.login.User))
	w.number(mode | modePassword)
	w.bytes(1)
	w.number(len(pairs) + partsOfAbout)
	w.bytes(1, 1)
	w.text([]byte(s.login.User))
	for _, each := range pairs {
		flags, _ := strconv.Atoi(each[2])
		w.pair(each[0], each[1], flags)
	}
	w.about()
	s.told = map[string]string{}
	if err := s.exchange(ctx, "login", w, func(name, value string, _ int64) { s.told[name] = value }); err != nil {
		return err
	}
	if !k.proves(s.told["AUTH_SVR_RESPONSE"]) {
		return &finding.Problem{Code: finding.LoginServerUnproven, Facts: finding.Facts{finding.FactMethod: k.method}}
	}
	return nil
}

// exchange sends a call and reads what comes back up to its end: pairs go to take.
func (s *session) exchange(ctx context.Context, leg string, w *writer,
	take func(name, value string, flags int64)) error {
	if err := s.stream.send(w.data); err != nil {
		return engine.Broken(ctx, leg, err)
	}
	return s.answer(ctx, leg, mostText, func(r *reader, message byte) bool {
		if message != messageParameter || take == nil {
			return false
		}
		for range r.count() {
			take(r.pair())
		}
		return true
	})
}

// warned notes what the server says beside letting us in, such as that the password is about to
// expire.
func (s *session) warned(number int, text string) {
	if len(s.warnings) < engine.MostNotices {
		s.warnings = append(s.warnings,
			engine.Notice{Level: "warning", Number: strconv.Itoa(number), Text: outside.Said(text)})
	}
}
