package standin

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"net"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// mongodbConn is one client of a practice server that speaks MongoDB's protocol ("MongoDB Wire
// Protocol", the server's manual): OP_MSG, and the older greeting by OP_QUERY.
type mongodbConn struct {
	server *Server
	conn   net.Conn
	number uint32
	as     identity

	last   int32
	login  *mongodbLogin
	logged bool
	lists  map[int64]*mongodbList
	listed bool // the databases were asked for: what comes then is a statement of a person's, or of a test's
	pinged bool
	asked  uint32 // the number of the message that is answered
}

// mongodbLogin is a SCRAM login under way (RFC 5802).
type mongodbLogin struct {
	of        func() hash.Hash
	user      string
	known     bool
	stored    []byte
	signature []byte
	bare      string // what both said so far
	nonce     string
	salt      []byte
	rounds    int
}

const (
	mongodbReply   = 1
	mongodbQuery   = 2004
	mongodbMessage = 2013
	mongodbMost    = 1 << 20
)

func (c *mongodbConn) serve() {
	f := c.server.config.Faults
	if f.TooMany { // a full server closes the connection, and says nothing
		return
	}
	if c.server.config.TLS != nil {
		encrypted := tls.Server(c.conn, c.server.config.TLS)
		if encrypted.Handshake() != nil {
			return
		}
		c.conn = encrypted
	}
	c.as.number = c.number
	if host, _, err := net.SplitHostPort(c.conn.RemoteAddr().String()); err == nil {
		c.as.client = host
	}
	for c.turn() {
	}
	c.server.list(-len(c.lists))
}

// turn answers one message.
func (c *mongodbConn) turn() bool {
	head := make([]byte, 16)
	if _, err := io.ReadFull(c.conn, head); err != nil {
		return false
	}
	size, op := binary.LittleEndian.Uint32(head), binary.LittleEndian.Uint32(head[12:])
	if size < 26 || size > mongodbMost {
		return false
	}
	body := make([]byte, size-16)
	if _, err := io.ReadFull(c.conn, body); err != nil {
		return false
	}
	number := binary.LittleEndian.Uint32(head[4:])
	c.asked = number
	switch op {
	case mongodbMessage:
		if body[4] != 0 {
			return false
		}
		answer, ok := c.command(bson.Raw(body[5:]))
		if !ok {
			return false
		}
		return c.send(number, mongodbMessage, append(make([]byte, 5), answer...))
	case mongodbQuery: // only a greeting: flags, "admin.$cmd", how many to skip and to give, a document
		_, rest, found := strings.Cut(string(body[4:]), "\x00")
		if !found || len(rest) < 13 {
			return false
		}
		answer, ok := c.command(bson.Raw(rest[8:]))
		if !ok {
			return false
		}
		reply := binary.LittleEndian.AppendUint32(make([]byte, 16), 1) // flags, cursor, from where, one document
		return c.send(number, mongodbReply, append(reply, answer...))
	}
	return false
}

func (c *mongodbConn) send(to, op uint32, body []byte) bool {
	c.last++
	put := binary.LittleEndian.AppendUint32
	m := put(put(put(put(nil, uint32(16+len(body))), uint32(c.last)), to), op)
	_, err := c.conn.Write(append(m, body...))
	return err == nil
}

// refuse gives an answer that is an error.
func (c *mongodbConn) refuse(number int, name, text string) bson.D {
	return bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: c.server.words(text, c.as.user)},
		{Key: "code", Value: number}, {Key: "codeName", Value: name}}
}

// command answers one command; false closes the connection.
func (c *mongodbConn) command(doc bson.Raw) ([]byte, bool) {
	if doc.Validate() != nil {
		return nil, false
	}
	first, err := doc.IndexErr(0)
	if err != nil {
		return nil, false
	}
	f := c.server.config.Faults
	name := first.Key()
	login := strings.HasPrefix(name, "sasl") || name == "authenticate"
	greets := name == "hello" || strings.EqualFold(name, "isMaster")
	var answer bson.D
	switch {
	case greets:
		answer = c.greet(doc)
	case login && f.StallLogin, !login && f.StallQuery && (name == "ping" || c.listed):
		wait(c.conn)
		return nil, false
	case !login && f.HangupQuery && (name == "ping" || c.listed):
		return nil, false
	case c.pinged && f.After == "silence":
		wait(c.conn)
		return nil, false
	case c.pinged && f.After == "giant":
		head := binary.LittleEndian.AppendUint32(nil, 48_000_000)
		flood(c.conn, append(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(head,
			1), c.asked), mongodbMessage), make([]byte, 48)...))
		return nil, false
	case c.pinged && f.After == "endless": // an answer that says again and again that more comes
		body, _ := bson.Marshal(bson.D{{Key: "ok", Value: 1.0}})
		for c.send(c.asked, mongodbMessage, append([]byte{2, 0, 0, 0, 0}, body...)) {
		}
		return nil, false
	case name == "saslStart":
		answer = c.start(doc)
	case name == "authenticate":
		answer = c.certified(doc)
	case name == "saslContinue":
		answer = c.goOn(doc)
	case name == "ping":
		answer, c.pinged = bson.D{}, true
	case !c.logged && !f.AskNothing && name != "buildInfo" && name != "connectionStatus" && name != "whatsmyip":
		answer = c.refuse(13, "Unauthorized", "command "+name+" requires authentication")
	default:
		answer = c.ask(name, doc)
	}
	if len(answer) == 0 || answer[0].Key != "ok" {
		answer = append(answer, bson.E{Key: "ok", Value: 1.0})
	}
	body, err := bson.Marshal(answer)
	return body, err == nil
}

// mongodbSet is the set that practice servers of this kind are in.
const mongodbSet = "fellside"

// set gives the set of this server: one for each identity.
func (c *mongodbConn) set() string {
	if n := c.server.config.Identity; n != 0 {
		return fmt.Sprint(mongodbSet, n)
	}
	return mongodbSet
}

// me gives this server's place in the set.
func (c *mongodbConn) me() string {
	if c.server.listener == nil {
		return "snow.fellside.example:27017"
	}
	return c.server.Address()
}

func (c *mongodbConn) greet(doc bson.Raw) bson.D {
	writable := "isWritablePrimary"
	if _, err := doc.LookupErr("hello"); err != nil {
		writable = "ismaster"
	}
	d := bson.D{{Key: writable, Value: !c.server.config.Replica},
		{Key: "setName", Value: c.set()}, {Key: "me", Value: c.me()}, {Key: "hosts", Value: bson.A{c.me()}},
		{Key: "secondary", Value: c.server.config.Replica},
		{Key: "maxBsonObjectSize", Value: 16 << 20}, {Key: "maxMessageSizeBytes", Value: 48000000},
		{Key: "connectionId", Value: int64(c.number)}, {Key: "minWireVersion", Value: 0},
		{Key: "maxWireVersion", Value: 21},
		{Key: "readOnly", Value: false}}
	if to := c.server.config.Faults.Redirect; to != "" {
		d = append(d, bson.E{Key: "primary", Value: to})
	}
	if more := c.server.config.Faults.Members; len(more) > 0 {
		hosts := bson.A{c.me()}
		for _, each := range more {
			hosts = append(hosts, each)
		}
		d[slices.IndexFunc(d, func(e bson.E) bool { return e.Key == "hosts" })].Value = hosts
	}
	if c.server.config.Faults.TooOld {
		d[slices.IndexFunc(d, func(e bson.E) bool { return e.Key == "maxWireVersion" })].Value = 5
	}
	if wanted, ok := doc.Lookup("saslSupportedMechs").StringValueOK(); ok {
		accounts, user, _ := strings.Cut(wanted, ".")
		// of an account that is not there, real servers say nothing
		if _, known := c.server.account(user); known && accounts == "admin" {
			d = append(d, bson.E{Key: "saslSupportedMechs", Value: c.mechanisms()})
		}
	}
	return d
}

func (c *mongodbConn) mechanisms() []string {
	switch {
	case c.server.config.Faults.AskClear:
		return []string{"PLAIN"}
	case c.server.config.Login == "SCRAM-SHA-1":
		return []string{"SCRAM-SHA-1"}
	}
	return []string{"SCRAM-SHA-1", "SCRAM-SHA-256"}
}

func (c *mongodbConn) failed() bson.D {
	return c.refuse(18, "AuthenticationFailed", "Authentication failed.")
}

func (c *mongodbConn) step(payload string, done bool) bson.D {
	return bson.D{{Key: "conversationId", Value: 1}, {Key: "done", Value: done}, {Key: "payload", Value: []byte(payload)}}
}

func mongodbPayload(doc bson.Raw) string {
	_, data, _ := doc.Lookup("payload").BinaryOK()
	return string(data)
}

// certified lets a client in by its certificate, as the account that has the certificate's first
// name.
func (c *mongodbConn) certified(doc bson.Raw) bson.D {
	encrypted, is := c.conn.(*tls.Conn)
	mechanism, _ := doc.Lookup("mechanism").StringValueOK()
	if !is || mechanism != "MONGODB-X509" || len(encrypted.ConnectionState().PeerCertificates) == 0 {
		return c.failed()
	}
	names := encrypted.ConnectionState().PeerCertificates[0].DNSNames
	if len(names) == 0 {
		return c.failed()
	}
	if wanted, said := doc.Lookup("user").StringValueOK(); said && wanted != names[0] {
		return c.failed()
	}
	if _, known := c.server.account(names[0]); !known {
		return c.failed()
	}
	c.letIn(names[0])
	return bson.D{{Key: "dbname", Value: "$external"}, {Key: "user", Value: names[0]}}
}

// start answers the first word of a login.
func (c *mongodbConn) start(doc bson.Raw) bson.D {
	f := c.server.config.Faults
	mechanism, _ := doc.Lookup("mechanism").StringValueOK()
	accounts, _ := doc.Lookup("$db").StringValueOK()
	payload := mongodbPayload(doc)
	if f.Refusal != "" {
		n := 0
		_, _ = fmt.Sscan(f.Refusal, &n)
		return c.refuse(n, "Practice", "refused for practice")
	}
	if mechanism == "PLAIN" {
		parts := strings.Split(payload, "\x00")
		if len(parts) != 3 {
			return c.failed()
		}
		c.server.show(parts[2])
		password, known := c.server.account(parts[1])
		if !known || parts[2] != password {
			return c.failed()
		}
		c.letIn(parts[1])
		return c.step("", true)
	}
	if !slices.Contains(c.mechanisms(), mechanism) {
		return c.refuse(334, "MechanismUnavailable", "unsupported mechanism "+mechanism)
	}
	bare, ok := strings.CutPrefix(payload, "n,,")
	named, nonce, found := strings.Cut(bare, ",r=")
	if !ok || !found || !strings.HasPrefix(named, "n=") {
		return c.failed()
	}
	l := &mongodbLogin{of: sha256.New, user: strings.NewReplacer("=2C", ",", "=3D", "=").Replace(named[2:]),
		salt: chance(16), rounds: 4096}
	var password string
	if password, l.known = c.server.account(l.user); !l.known || accounts != "admin" {
		password, l.known = hex.EncodeToString(chance(16)), false
	}
	if mechanism == "SCRAM-SHA-1" {
		l.of = sha1.New
		sum := md5.Sum([]byte(l.user + ":mongo:" + password))
		password = hex.EncodeToString(sum[:])
	}
	if f.Rounds != 0 {
		l.rounds = f.Rounds
	}
	salted, _ := pbkdf2.Key(l.of, password, l.salt, min(l.rounds, 4096), l.of().Size())
	client := l.sign(salted, "Client Key")
	sum := l.of()
	sum.Write(client)
	l.stored, l.signature = sum.Sum(nil), l.sign(salted, "Server Key")
	l.nonce = nonce + base64.StdEncoding.EncodeToString(chance(18))
	said := fmt.Sprintf("r=%s,s=%s,i=%d", l.nonce, base64.StdEncoding.EncodeToString(l.salt), l.rounds)
	l.bare = bare + "," + said
	c.login = l
	return c.step(said, false)
}

func (l *mongodbLogin) sign(key []byte, text string) []byte {
	h := hmac.New(l.of, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

// goOn checks the client's proof.
func (c *mongodbConn) goOn(doc bson.Raw) bson.D {
	l := c.login
	if l == nil {
		return c.failed()
	}
	c.login = nil
	last, proof64, _ := strings.Cut(mongodbPayload(doc), ",p=")
	proof, err := base64.StdEncoding.DecodeString(proof64)
	whole := l.bare + "," + last
	signed := l.sign(l.stored, whole)
	if err != nil || len(proof) != len(signed) || last != "c=biws,r="+l.nonce {
		return c.failed()
	}
	for i := range proof {
		proof[i] ^= signed[i]
	}
	sum := l.of()
	sum.Write(proof)
	if !l.known || !hmac.Equal(sum.Sum(nil), l.stored) {
		return c.failed()
	}
	c.letIn(l.user)
	signature := l.sign(l.signature, whole)
	switch c.server.config.Faults.Unproven {
	case "no proof":
		return c.step("", true)
	case "wrong proof":
		signature = chance(len(signature))
	}
	return c.step("v="+base64.StdEncoding.EncodeToString(signature), true)
}

func (c *mongodbConn) letIn(user string) {
	c.logged, c.as.user = true, user
	c.server.open("")
}

// ask answers a command of someone who may ask.
func (c *mongodbConn) ask(name string, doc bson.Raw) bson.D {
	if _, err := doc.LookupErr("$readPreference"); err != nil && c.server.config.Replica &&
		strings.HasPrefix(name, "list") {
		return c.refuse(13435, "NotPrimaryNoSecondaryOk", "not primary and secondaryOk=false")
	}
	switch name {
	case "buildInfo":
		return bson.D{{Key: "version", Value: "7.0.14"}}
	case "whatsmyip":
		return bson.D{{Key: "you", Value: c.conn.RemoteAddr().String()}}
	case "connectionStatus":
		users, roles := bson.A{}, bson.A{}
		if c.logged {
			users = append(users, bson.D{{Key: "user", Value: c.as.user}, {Key: "db", Value: "admin"}})
			role := "readWrite"
			if c.as.user == c.server.config.Superuser {
				role = "root"
			}
			roles = append(roles, bson.D{{Key: "role", Value: role}, {Key: "db", Value: "admin"}})
		}
		return bson.D{{Key: "authInfo",
			Value: bson.D{{Key: "authenticatedUsers", Value: users}, {Key: "authenticatedUserRoles", Value: roles}}}}
	case "listDatabases":
		c.listed = true
		list := bson.A{}
		for _, name := range append(slices.Clone(builtIn["mongodb"]), c.server.config.Databases...) {
			list = append(list, bson.D{{Key: "name", Value: name}, {Key: "sizeOnDisk", Value: float64(8192 * len(name))}})
		}
		return bson.D{{Key: "databases", Value: list}}
	case "listCollections":
		names := bson.A{}
		rows, err := c.server.data.db.Query("select name from sqlite_master where type = 'table' order by name")
		if err == nil {
			defer rows.Close()
			for rows.Next() {
				var table string
				if rows.Scan(&table) == nil {
					if wanted, ok := doc.Lookup("filter", "name").StringValueOK(); !ok || wanted == table {
						names = append(names, bson.D{{Key: "name", Value: table}, {Key: "type", Value: "collection"}})
					}
				}
			}
		}
		in, _ := doc.Lookup("$db").StringValueOK()
		if slices.Contains(builtIn["mongodb"], in) || !c.server.has(in) {
			names = bson.A{}
		}
		return c.give(in+".$cmd.listCollections", names, 2)
	}
	if answer := c.documents(name, doc); answer != nil {
		return answer
	}
	return c.refuse(59, "CommandNotFound", "no such command: '"+name+"'")
}
