package mongodb

import (
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"hash"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"golang.org/x/text/secure/precis"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// The login methods ("Authentication Mechanisms", the server's manual), the strongest first.
const (
	scram256    = "SCRAM-SHA-256"
	scram1      = "SCRAM-SHA-1"
	certificate = "MONGODB-X509"
	plain       = "PLAIN"
)

var methods = []string{scram256, scram1, certificate, plain}

// external knows the accounts whose password or certificate another service checks.
const external = "$external"

// mostSaid bounds one part of what a server says at a login.
const mostSaid = 4 << 10

// logIn logs in, by the strongest method that both sides know. Without a password and a
// certificate nobody logs in: the server lets everybody ask some things.
func (s *session) logIn(ctx context.Context, line engine.Line) error {
	method := s.choose(line)
	about := finding.Facts{finding.FactMethod: method}
	switch {
	case method == "" && !line.Given && s.login.Accepts(engine.NothingAsked):
		s.method = engine.Unasked
		return nil
	case method == "":
		about[finding.FactMethod], about[finding.FactAccepted] = strings.Join(s.greeting.Mechanisms, ", "),
			strings.Join(s.login.Methods, ", ")
		return &finding.Problem{Code: finding.LoginMethodNotSupported, Facts: about}
	case method == plain && !line.MayShow:
		return &finding.Problem{Code: finding.LoginWouldShowPassword, Facts: about}
	}
	s.method = method
	var err error
	switch method {
	case certificate:
		command := bson.D{{Key: "authenticate", Value: 1}, {Key: "mechanism", Value: method}, {Key: "$db", Value: external}}
		if s.login.User != "" {
			command = append(command, bson.E{Key: "user", Value: s.login.User})
		}
		err = s.call(ctx, "login", command, nil)
	case plain:
		_, err = s.say(ctx, bson.D{{Key: "saslStart", Value: 1}, {Key: "mechanism", Value: plain},
			{Key: "payload", Value: []byte("\x00" + s.login.User + "\x00" + line.Release(plain))},
			{Key: "autoAuthorize", Value: 1}, {Key: "$db", Value: external}})
	default:
		err = s.prove(ctx, line, method)
	}
	if p := problem(err); p != nil && p.Code == finding.LoginRefused {
		p.Facts[finding.FactMethod] = method
		if in := s.elsewhere(ctx, method); in != "" {
			p.Code = finding.LoginAnotherDatabase
			p.Facts[finding.FactAccounts], p.Facts[finding.FactFound] = s.accounts, in
			return err
		}
		if method != certificate && method != plain {
			p.Facts[finding.FactAccounts] = s.accounts
			if s.greeting.Mechanisms == nil && s.login.Options[optionAccounts] == "" && s.accounts != usualAccounts {
				p.Facts[finding.FactAccounts] += " and in " + usualAccounts
			}
		}
	}
	return err
}

// elsewhere gives another database that knows an account of this name, where the one that an option
// names does not; "" for none, and where the server does not show it.
func (s *session) elsewhere(ctx context.Context, method string) string {
	said := s.login.Options[optionAccounts]
	if said == "" || s.greeting.Mechanisms != nil || method == certificate || method == plain {
		return ""
	}
	first := s.greeting
	defer func() { s.accounts, s.greeting = said, first }()
	for _, each := range []string{s.login.Database, usualAccounts} {
		if each == "" || each == said {
			continue
		}
		s.accounts = each
		if err := s.hello(ctx); err != nil {
			return ""
		}
		if s.greeting.Mechanisms != nil {
			return each
		}
	}
	return ""
}

// oldestScram256 is the first version of the protocol whose servers know the newer method.
const oldestScram256 = 7

// choose gives the method to log in by, "" for none.
func (s *session) choose(line engine.Line) string {
	offered := s.greeting.Mechanisms
	if !line.Given {
		if line.TLS != nil && len(line.TLS.Certificates) > 0 && s.login.Accepts(certificate) {
			return certificate
		}
		return ""
	}
	if offered == nil { // the server does not say which: there is no such account, or it keeps that to itself
		offered = []string{scram256}
		if s.greeting.Newest < oldestScram256 {
			offered = []string{scram1}
		}
		if s.accounts == external {
			offered = []string{plain}
		}
	}
	for _, method := range []string{scram256, scram1, plain} {
		if slices.Contains(offered, method) && s.login.Accepts(method) {
			return method
		}
	}
	return ""
}

// problem gives the *finding.Problem in an error, nil for none.
func problem(err error) *finding.Problem {
	p, _ := err.(*finding.Problem)
	return p
}

// saslAnswer is a step of a login.
type saslAnswer struct {
	Conversation bson.RawValue `bson:"conversationId"`
	Done         bool          `bson:"done"`
	Payload      bson.RawValue `bson:"payload"`
}

// payload gives what the server says in a step.
func (a saslAnswer) payload() string {
	if _, data, ok := a.Payload.BinaryOK(); ok {
		return string(data)
	}
	text, _ := a.Payload.StringValueOK()
	return text
}

func (s *session) say(ctx context.Context, command bson.D) (a saslAnswer, err error) {
	err = s.call(ctx, "login", command, &a)
	if err == nil && len(a.payload()) > mostSaid {
		err = engine.TooMuch("login")
	}
	return a, err
}

// prove logs in by SCRAM (RFC 5802, RFC 7677), and has the server prove that it knows the account.
func (s *session) prove(ctx context.Context, line engine.Line, method string) error {
	random := make([]byte, 24)
	_, _ = rand.Read(random)
	nonce := base64.StdEncoding.EncodeToString(random)
	bare := "n=" + strings.NewReplacer("=", "=3D", ",", "=2C").Replace(s.login.User) + ",r=" + nonce
	first, err := s.say(ctx, bson.D{{Key: "saslStart", Value: 1}, {Key: "mechanism", Value: method},
		{Key: "payload", Value: []byte("n,," + bare)}, {Key: "autoAuthorize", Value: 1},
		{Key: "options", Value: bson.D{{Key: "skipEmptyExchange", Value: true}}}, {Key: "$db", Value: s.accounts}})
	if err != nil {
		return err
	}
	unproven := &finding.Problem{Code: finding.LoginServerUnproven, Facts: finding.Facts{finding.FactMethod: method}}
	said := first.payload()
	parts := map[string]string{}
	for _, part := range strings.Split(said, ",") {
		if name, value, ok := strings.Cut(part, "="); ok {
			if _, twice := parts[name]; twice {
				return unproven
			}
			parts[name] = value
		}
	}
	salt, badSalt := base64.StdEncoding.DecodeString(parts["s"])
	rounds, badRounds := strconv.Atoi(parts["i"])
	if first.Done || badSalt != nil || badRounds != nil || rounds < 1 || len(salt) == 0 || parts["m"] != "" ||
		!strings.HasPrefix(parts["r"], nonce) || parts["r"] == nonce {
		return unproven
	}
	of := newHash(method)
	if err := (engine.Rounds{Method: method, Hash: of, N: rounds,
		Setting: map[string]string{scram256: "scramSHA256IterationCount",
			scram1: "scramIterationCount"}[method], Unverified: line.Unverified, Limit: s.login.Leg}).Check(); err != nil {
		return err
	}
	password, err := prepared(method, s.login.User, line.Release(method))
	if err != nil {
		return &finding.Problem{Code: finding.LoginUnknown, Err: err}
	}
	last := "c=biws,r=" + parts["r"]
	proof, expected, err := scram(of, password, salt, rounds, bare+","+said+","+last)
	if err != nil {
		return &finding.Problem{Code: finding.LoginUnknown, Err: err}
	}
	answer, err := s.say(ctx, bson.D{{Key: "saslContinue", Value: 1},
		{Key: "conversationId", Value: first.Conversation},
		{Key: "payload", Value: []byte(last + ",p=" + base64.StdEncoding.EncodeToString(proof))},
		{Key: "$db", Value: s.accounts}})
	if err != nil {
		return err
	}
	shown, ok := strings.CutPrefix(answer.payload(), "v=")
	theirs, bad := base64.StdEncoding.DecodeString(shown)
	if !ok || bad != nil || !hmac.Equal(theirs, expected) {
		return unproven
	}
	for range 2 { // a server that does not know skipEmptyExchange expects one more step
		if answer.Done {
			return nil
		}
		if answer, err = s.say(ctx, bson.D{{Key: "saslContinue", Value: 1},
			{Key: "conversationId", Value: first.Conversation}, {Key: "payload", Value: []byte{}},
			{Key: "$db", Value: s.accounts}}); err != nil {
			return err
		}
	}
	return unproven
}

// newHash gives the hash of a method.
func newHash(method string) func() hash.Hash {
	if method == scram1 {
		return sha1.New
	}
	return sha256.New
}

// prepared gives the password as a method takes it: the older one an MD5 of it, which is no
// protection and is not meant as one.
func prepared(method, user, password string) (string, error) {
	if method == scram1 {
		sum := md5.Sum([]byte(user + ":mongo:" + password))
		return hex.EncodeToString(sum[:]), nil
	}
	if clean, err := precis.OpaqueString.String(password); err == nil { // RFC 8265, which replaces RFC 4013
		return clean, nil
	}
	return password, nil
}

// scram gives the client's proof, and the server's signature that proves that it knows the
// account (RFC 5802, section 3).
func scram(of func() hash.Hash, password string, salt []byte, rounds int, whole string) (proof, server []byte,
	err error) {
	salted, err := pbkdf2.Key(of, password, salt, rounds, of().Size())
	if err != nil {
		return nil, nil, err
	}
	sign := func(key []byte, text string) []byte {
		h := hmac.New(of, key)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	client := sign(salted, "Client Key")
	stored := of()
	stored.Write(client)
	proof = sign(stored.Sum(nil), whole)
	for i := range proof {
		proof[i] ^= client[i]
	}
	return proof, sign(sign(salted, "Server Key"), whole), nil
}
