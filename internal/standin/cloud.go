package standin

import (
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// CloudServer is a server of a practice cloud.
type CloudServer struct {
	ID, Name, Engine, Version, Region, ProviderName string
	// State is "running" when empty.
	State string
	// Behind is the address of the server itself, HOST:PORT. A gate in front of it, at Public,
	// lets in those that the cloud lets in; one that is empty is on a loopback port, and "none"
	// is none at all.
	Behind, Public, Private    string
	Authority, CertificateName string
	Databases                  []string
	Replicas                   []CloudReplica
	// Login makes a temporary account, and gives its user and password; nil gives no logins.
	Login func(user, database string) (name, password string, err error)

	gate string
}

// CloudReplica is a replica of a server.
type CloudReplica struct {
	Name, Region, State string
	Behind              string

	gate string
}

// CloudConfig says what a practice cloud is like.
type CloudConfig struct {
	// Address is where it listens, a loopback address; "127.0.0.1:0" when empty. Also has further
	// ones, which are said by name in Host.
	Address string
	Also    []string
	Host    string
	TLS     *tls.Config
	Servers []CloudServer
	// Who is the person who confirms codes.
	Who string
	// Service is switched off until someone switches it on at its page; "" for none.
	Service string
	// Delay is how long an admission takes to hold.
	Delay time.Duration
	// Mark is what all tokens begin with, so that a test can look for them.
	Mark string
	// Wrap goes in front of the cloud, such as a test that looks at what passes; nil for nothing.
	Wrap func(http.Handler) http.Handler
	// How long a code, a token and a temporary login live: 10 minutes, 5 minutes and an hour for 0.
	Code, Token, Login time.Duration
	// Interval is the seconds between two questions for tokens, 1 for 0; Page how many items a
	// page has, 2 for 0.
	Interval, Page int
}

// CloudFaults are how a practice cloud can misbehave. Each is off in the zero value.
type CloudFaults struct {
	Stall     bool   // answer nothing
	Status    int    // answer every request of the API with this status
	Retry     string // and this Retry-After
	Problem   string // and a problem of this type
	Words     string // and these words
	Redirect  string // lead every request elsewhere
	Issuer    string // say another name in the metadata
	Elsewhere string // put this instead of the token endpoint's origin
	Next      string // lead to the next page there
	Endless   bool   // give pages without an end
	Huge      bool   // answer without an end
	NotJSON   bool
	SlowDown  bool   // want to be asked more slowly, once
	Drop      int    // break off so many questions for tokens
	Address   string // name this as the address of every server, HOST:PORT
	Echo      bool   // put the token that came into the words of errors
	UserCode  string // show this code
	TokenType string // instead of Bearer
	Login     string // give this user instead of the one asked for
	OtherName string // give each server this name
	// Answer, where it is set, answers a request in a way of its own, and says whether it did.
	Answer func(w http.ResponseWriter, r *http.Request) bool
}

type family struct {
	refresh string
	old     map[string]bool // refresh tokens that were used
	access  map[string]time.Time
	over    bool
}

type device struct {
	code      string // the user's
	end       time.Time
	state     string // "", "confirmed", "denied"
	form      string
	asked     time.Time
	slowed    bool
	confirmed bool
}

// CloudAdmission is what a practice cloud lets in.
type CloudAdmission struct {
	ID     string       `json:"id"`
	Server string       `json:"server"`
	Name   string       `json:"server_name"`
	Range  netip.Prefix `json:"range"`
	Until  *time.Time   `json:"until,omitempty"`
	Note   string       `json:"note,omitempty"`
	Mine   bool         `json:"mine"`

	from time.Time // when it begins to hold
}

type work struct {
	began time.Time
	does  func() // at its end
	done  bool
}

// Cloud is a practice cloud: it speaks docs/cloud-api.yaml on a loopback address, and has a page
// on which a person confirms a code.
type Cloud struct {
	config CloudConfig
	server *http.Server
	listen []net.Listener
	gates  []net.Listener
	group  sync.WaitGroup

	mu        sync.Mutex
	faults    CloudFaults
	serviceOn bool
	// guards the form that switches the service on: another page in the browser cannot know it
	form     string
	devices  map[string]*device // by the device's code
	families []*family
	issued   []string
	admitted []CloudAdmission
	works    map[string]*work
	numbers  int
	asked    []string
	conns    map[net.Conn]bool
	servers  []CloudServer
	closed   bool
}

// StartCloud has a cloud listen. Close ends it.
func StartCloud(config CloudConfig) (*Cloud, error) {
	if config.Address == "" {
		config.Address = "127.0.0.1:0"
	}
	for _, pair := range []struct {
		at        *time.Duration
		otherwise time.Duration
	}{{&config.Code, 10 * time.Minute}, {&config.Token, 5 * time.Minute}, {&config.Login, time.Hour}} {
		if *pair.at == 0 {
			*pair.at = pair.otherwise
		}
	}
	config.Interval, config.Page = max(config.Interval, 1), max(config.Page, 2)
	c := &Cloud{config: config, devices: map[string]*device{}, works: map[string]*work{},
		conns: map[net.Conn]bool{}, servers: slices.Clone(config.Servers)}
	c.form = c.random()
	for i, at := range append([]string{config.Address}, config.Also...) {
		if i > 0 { // the same port
			host, _, _ := net.SplitHostPort(at)
			at = net.JoinHostPort(host, strconv.Itoa(c.Port()))
		}
		l, err := loopback(at)
		if err != nil {
			c.Close()
			return nil, err
		}
		c.listen = append(c.listen, l)
	}
	for i := range c.servers {
		s := &c.servers[i]
		if s.State == "" {
			s.State = "running"
		}
		for j := range s.Replicas {
			if s.Replicas[j].State == "" {
				s.Replicas[j].State = "running"
			}
			var err error
			if s.Replicas[j].gate, err = c.openGate("127.0.0.1:0", s.ID, s.Replicas[j].Behind); err != nil {
				c.Close()
				return nil, err
			}
		}
		if s.Public == "none" {
			continue
		}
		at := s.Public
		if at == "" {
			at = "127.0.0.1:0"
		}
		var err error
		if s.gate, err = c.openGate(at, s.ID, s.Behind); err != nil {
			c.Close()
			return nil, err
		}
	}
	handler := http.Handler(c)
	if config.Wrap != nil {
		handler = config.Wrap(c)
	}
	c.server = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, TLSConfig: config.TLS}
	for _, l := range c.listen {
		go func() {
			if config.TLS != nil {
				_ = c.server.ServeTLS(l, "", "")
				return
			}
			_ = c.server.Serve(l)
		}()
	}
	return c, nil
}

func loopback(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err == nil && (ip == nil || !ip.IsLoopback()) {
		err = fmt.Errorf("a practice cloud listens on a loopback address, and %q is none", host)
	}
	if err != nil {
		return nil, err
	}
	return net.Listen("tcp", address)
}

// Port gives the port of the cloud.
func (c *Cloud) Port() int { return c.listen[0].Addr().(*net.TCPAddr).Port }

// URL gives the cloud's address.
func (c *Cloud) URL() string {
	scheme, host := "http", c.config.Host
	if c.config.TLS != nil {
		scheme = "https"
	}
	if host == "" {
		host, _, _ = net.SplitHostPort(c.listen[0].Addr().String())
	}
	return scheme + "://" + net.JoinHostPort(host, strconv.Itoa(c.Port()))
}

// Close ends the cloud and its gates.
func (c *Cloud) Close() {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return
	}
	c.closed = true
	for conn := range c.conns {
		_ = conn.Close()
	}
	c.mu.Unlock()
	if c.server != nil {
		_ = c.server.Close()
	}
	for _, l := range append(slices.Clone(c.listen), c.gates...) {
		_ = l.Close()
	}
	c.group.Wait()
}

// Misbehave sets the cloud's faults.
func (c *Cloud) Misbehave(f CloudFaults) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.faults = f
}

// Change changes a server.
func (c *Cloud) Change(id string, change func(*CloudServer)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range c.servers {
		if c.servers[i].ID == id {
			change(&c.servers[i])
		}
	}
}

// SwitchOn switches the service on, or off.
func (c *Cloud) SwitchOn(on bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.serviceOn = on
}

// Issued lists the tokens and device codes that were given so far.
func (c *Cloud) Issued() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.issued)
}

// Asked lists the requests that came, METHOD PATH.
func (c *Cloud) Asked() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.asked)
}

// Admissions lists what is let in.
func (c *Cloud) Admissions() []CloudAdmission {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.admitted)
}

// Admit lets a range in immediately, as another person may have done; until is nil for no end.
func (c *Cloud) Admit(server, cidr string, until *time.Time, mine bool) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.numbers++
	a := CloudAdmission{ID: fmt.Sprint("adm-", c.numbers), Server: server, Name: c.find(server).Name,
		Range: netip.MustParsePrefix(cidr), Until: until, Mine: mine, from: time.Now()}
	c.admitted = append(c.admitted, a)
	return a.ID
}

// Withdraw takes an admission back immediately.
func (c *Cloud) Withdraw(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.admitted = slices.DeleteFunc(c.admitted, func(a CloudAdmission) bool { return a.ID == id })
}

// Confirm confirms or denies the code that waits, as a person on the page does; it reports
// whether one waits.
func (c *Cloud) Confirm(yes bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, d := range c.devices {
		if d.state == "" && time.Now().Before(d.end) {
			d.state = map[bool]string{true: "confirmed", false: "denied"}[yes]
			return true
		}
	}
	return false
}

// EndSessions ends all sign-ins, as an administrator can.
func (c *Cloud) EndSessions() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.families {
		f.over = true
	}
}

// EndAccess ends all access tokens; the sign-ins go on.
func (c *Cloud) EndAccess() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.families {
		clear(f.access)
	}
}

// openGate listens in front of a server. Who is not let in is accepted, and hears nothing, as a
// network's filter keeps silent.
func (c *Cloud) openGate(at, id, behind string) (string, error) {
	l, err := loopback(at)
	if err != nil {
		return "", err
	}
	c.gates = append(c.gates, l)
	c.group.Add(1)
	go func() {
		defer c.group.Done()
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			c.mu.Lock()
			if c.closed {
				c.mu.Unlock()
				_ = conn.Close()
				return
			}
			c.conns[conn] = true
			c.group.Add(1)
			c.mu.Unlock()
			go func() {
				defer c.group.Done()
				c.pass(conn, id, behind)
				c.mu.Lock()
				delete(c.conns, conn)
				c.mu.Unlock()
			}()
		}
	}()
	return l.Addr().String(), nil
}

func (c *Cloud) pass(conn net.Conn, id, behind string) {
	defer conn.Close()
	from := netip.MustParseAddrPort(conn.RemoteAddr().String()).Addr().Unmap()
	if !c.lets(id, from) {
		wait(conn)
		return
	}
	to, err := net.Dial("tcp", behind)
	if err != nil {
		return
	}
	defer to.Close()
	done := make(chan bool, 2)
	go func() { _, _ = io.Copy(to, conn); done <- true }()
	go func() { _, _ = io.Copy(conn, to); done <- true }()
	<-done
}

func (c *Cloud) lets(id string, from netip.Addr) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	return slices.ContainsFunc(c.admitted, func(a CloudAdmission) bool {
		return a.Server == id && a.Range.Contains(from) && !now.Before(a.from) && (a.Until == nil || now.Before(*a.Until))
	})
}

func (c *Cloud) find(id string) CloudServer {
	for _, s := range c.servers {
		if s.ID == id {
			return s
		}
	}
	return CloudServer{}
}

// random makes a token, and notes that it was given.
func (c *Cloud) random() string {
	var b [24]byte
	_, _ = rand.Read(b[:])
	text := c.config.Mark + hex.EncodeToString(b[:])
	c.issued = append(c.issued, text)
	return text
}

// codeLetters are those of codes: no vowels, so that no words come of them, and none that look
// alike.
const codeLetters = "BCDFGHJKLMNPQRSTVWXZ"

func newCode() string {
	var b [8]byte
	_, _ = rand.Read(b[:])
	for i := range b {
		b[i] = codeLetters[int(b[i])%len(codeLetters)]
	}
	return string(b[:4]) + "-" + string(b[4:])
}

// ServeHTTP answers a request.
func (c *Cloud) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	f := c.faults
	c.asked = append(c.asked, r.Method+" "+r.URL.Path)
	c.mu.Unlock()
	api := strings.HasPrefix(r.URL.Path, "/v1/")
	switch {
	case f.Answer != nil && f.Answer(w, r):
		return
	case f.Stall:
		<-r.Context().Done()
		return
	case f.Redirect != "":
		http.Redirect(w, r, f.Redirect+r.URL.RequestURI(), http.StatusTemporaryRedirect)
		return
	case f.NotJSON:
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<html>the hut is closed</html>")
		return
	case f.Huge:
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"servers":[`)
		for r.Context().Err() == nil {
			if _, err := io.WriteString(w, `{"id":"`+strings.Repeat("a", 4096)+`"},`); err != nil {
				return
			}
		}
		return
	case api && f.Status != 0:
		if f.Retry != "" {
			w.Header().Set("Retry-After", f.Retry)
		}
		words := f.Words
		if f.Echo {
			words += " (you sent " + r.Header.Get("Authorization") + ")"
		}
		answerProblem(w, f.Status, f.Problem, words, nil)
		return
	}
	switch {
	case r.URL.Path == "/.well-known/oauth-authorization-server":
		c.metadata(w, f)
	case r.URL.Path == "/device_authorization" && r.Method == http.MethodPost:
		c.authorize(w, r, f)
	case r.URL.Path == "/token" && r.Method == http.MethodPost:
		c.token(w, r, f)
	case r.URL.Path == "/revoke" && r.Method == http.MethodPost:
		c.revoke(w, r)
	case r.URL.Path == "/device", r.URL.Path == "/services":
		c.page(w, r)
	case api:
		c.api(w, r, f)
	default:
		http.NotFound(w, r)
	}
}

func (c *Cloud) metadata(w http.ResponseWriter, f CloudFaults) {
	issuer := c.URL()
	token := issuer + "/token"
	if f.Elsewhere != "" {
		token = f.Elsewhere + "/token"
	}
	if f.Issuer != "" {
		issuer = f.Issuer
	}
	answer(w, map[string]any{
		"issuer": issuer, "device_authorization_endpoint": c.URL() + "/device_authorization",
		"token_endpoint": token, "revocation_endpoint": c.URL() + "/revoke",
		"grant_types_supported":                 []string{"urn:ietf:params:oauth:grant-type:device_code", "refresh_token"},
		"token_endpoint_auth_methods_supported": []string{"none"},
		"response_types_supported":              []string{},
	})
}

func (c *Cloud) authorize(w http.ResponseWriter, r *http.Request, f CloudFaults) {
	if r.FormValue("client_id") == "" {
		oauthError(w, "invalid_client")
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	d := &device{code: newCode(), end: time.Now().Add(c.config.Code), form: c.random()}
	if f.UserCode != "" {
		d.code = f.UserCode
	}
	secret := c.random()
	c.devices[secret] = d
	answer(w, map[string]any{
		"device_code": secret, "user_code": d.code, "verification_uri": c.URL() + "/device",
		"verification_uri_complete": c.URL() + "/device?code=" + url.QueryEscape(d.code),
		"expires_in":                int(c.config.Code.Seconds()), "interval": c.config.Interval,
	})
}

func oauthError(w http.ResponseWriter, code string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusBadRequest)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": code})
}

func (c *Cloud) token(w http.ResponseWriter, r *http.Request, f CloudFaults) {
	_ = r.ParseForm()
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.faults.Drop > 0 {
		c.faults.Drop--
		if conn, _, err := http.NewResponseController(w).Hijack(); err == nil {
			_ = conn.Close()
		}
		return
	}
	switch r.PostForm.Get("grant_type") {
	case "urn:ietf:params:oauth:grant-type:device_code":
		d := c.devices[r.PostForm.Get("device_code")]
		now := time.Now()
		switch {
		case d == nil, d.confirmed:
			oauthError(w, "invalid_grant")
		case now.After(d.end):
			oauthError(w, "expired_token")
		case d.state == "denied":
			oauthError(w, "access_denied")
		case f.SlowDown && !d.slowed,
			now.Sub(d.asked) < time.Duration(c.config.Interval)*time.Second*9/10 && !d.asked.IsZero():
			d.slowed, d.asked = true, now
			oauthError(w, "slow_down")
		case d.state == "":
			d.asked = now
			oauthError(w, "authorization_pending")
		default:
			d.confirmed = true
			fam := &family{access: map[string]time.Time{}, old: map[string]bool{}}
			c.families = append(c.families, fam)
			c.give(w, fam, f)
		}
	case "refresh_token":
		old := r.PostForm.Get("refresh_token")
		for _, fam := range c.families {
			if fam.refresh == old && !fam.over {
				c.give(w, fam, f)
				return
			}
			if fam.old[old] { // one that was used before: someone has a copy
				fam.over = true
			}
		}
		oauthError(w, "invalid_grant")
	default:
		oauthError(w, "unsupported_grant_type")
	}
}

// give gives new tokens to a family. Its old refresh token is known again.
func (c *Cloud) give(w http.ResponseWriter, fam *family, f CloudFaults) {
	access, refresh := c.random(), c.random()
	if fam.refresh != "" {
		fam.old[fam.refresh] = true
	}
	fam.refresh = refresh
	fam.access[access] = time.Now().Add(c.config.Token)
	kind := "Bearer"
	if f.TokenType != "" {
		kind = f.TokenType
	}
	w.Header().Set("Cache-Control", "no-store")
	answer(w, map[string]any{"access_token": access, "token_type": kind,
		"expires_in": int(c.config.Token.Seconds()), "refresh_token": refresh, "scope": "databases"})
}

func (c *Cloud) revoke(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, fam := range c.families {
		if fam.refresh == r.PostForm.Get("token") {
			fam.over = true
		}
	}
	w.WriteHeader(http.StatusOK)
}

// Signed reports whether any sign-in holds.
func (c *Cloud) Signed() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.ContainsFunc(c.families, func(f *family) bool { return !f.over })
}

// answerProblem answers with problem details (RFC 9457).
func answerProblem(w http.ResponseWriter, status int, kind, detail string, more map[string]string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	all := map[string]any{"title": http.StatusText(status), "status": status}
	if kind != "" {
		all["type"] = kind
	}
	if detail != "" {
		all["detail"] = detail
	}
	for name, value := range more {
		all[name] = value
	}
	_ = json.NewEncoder(w).Encode(all)
}

const problemTypes = "tag:gentle-harbor.example,2026:"

// api answers a request of docs/cloud-api.yaml.
func (c *Cloud) api(w http.ResponseWriter, r *http.Request, f CloudFaults) {
	c.mu.Lock()
	defer c.mu.Unlock()
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	now := time.Now()
	if !slices.ContainsFunc(c.families, func(fam *family) bool { return !fam.over && now.Before(fam.access[token]) }) {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		answerProblem(w, http.StatusUnauthorized, "", "this token does not hold", nil)
		return
	}
	parts := strings.Split(strings.Trim(strings.TrimPrefix(r.URL.Path, "/v1/"), "/"), "/")
	if parts[0] != "account" && parts[0] != "caller" && c.config.Service != "" && !c.serviceOn {
		answerProblem(w, http.StatusForbidden, problemTypes+"service-off",
			"the keeper has not opened this room yet",
			map[string]string{"service": c.config.Service, "link": c.URL() + "/services"})
		return
	}
	key := r.Method + " " + parts[0]
	if len(parts) > 2 {
		key += " " + parts[2]
	}
	var s CloudServer
	if parts[0] == "servers" && len(parts) > 1 {
		if s = c.find(parts[1]); s.ID == "" {
			answerProblem(w, http.StatusNotFound, "", "there is no such server", nil)
			return
		}
	}
	switch {
	case key == "GET account":
		answer(w, map[string]string{"name": c.config.Who})
	case key == "GET caller":
		addr := netip.MustParseAddrPort(r.RemoteAddr).Addr().Unmap()
		answer(w, map[string]string{"address": addr.String()})
	case key == "GET servers" && len(parts) == 1:
		list := []any{}
		for _, each := range c.servers {
			if name := r.URL.Query().Get("name"); name == "" || name == each.Name || name == each.ID {
				list = append(list, described(each, f))
			}
		}
		c.list(w, r, f, "servers", list)
	case key == "GET servers":
		answer(w, described(s, f))
	case key == "GET servers databases":
		list := []any{}
		for _, name := range s.Databases {
			list = append(list, map[string]string{"name": name})
		}
		c.list(w, r, f, "databases", list)
	case key == "GET admissions", key == "GET servers admissions":
		list := []any{}
		for _, a := range c.admitted {
			if (a.Until == nil || now.Before(*a.Until)) && !now.Before(a.from) && (s.ID == a.Server || s.ID == "" && a.Mine) {
				list = append(list, a)
			}
		}
		c.list(w, r, f, "admissions", list)
	case key == "POST servers admissions":
		c.admit(w, r, s)
	case key == "DELETE servers admissions" && len(parts) == 4:
		i := slices.IndexFunc(c.admitted, func(a CloudAdmission) bool { return a.ID == parts[3] && a.Server == s.ID })
		if i < 0 {
			answerProblem(w, http.StatusNotFound, "", "there is no such admission", nil)
			return
		}
		id := parts[3]
		c.begin(w, func() {
			c.admitted = slices.DeleteFunc(c.admitted, func(a CloudAdmission) bool { return a.ID == id })
		})
	case key == "GET operations" && len(parts) == 2:
		if wk := c.works[parts[1]]; wk != nil {
			c.operation(w, parts[1], wk, http.StatusOK)
			return
		}
		answerProblem(w, http.StatusNotFound, "", "there is no such operation", nil)
	case key == "POST servers logins":
		var in struct{ User, Database string }
		_ = json.NewDecoder(io.LimitReader(r.Body, 64<<10)).Decode(&in)
		if s.Login == nil {
			answerProblem(w, http.StatusForbidden, problemTypes+"no-temporary-login",
				"this server knows permanent keys only", nil)
			return
		}
		user, password, err := s.Login(in.User, in.Database)
		if err != nil {
			answerProblem(w, http.StatusForbidden, problemTypes+"no-temporary-login", err.Error(), nil)
			return
		}
		if f.Login != "" {
			user = f.Login
		}
		c.issued = append(c.issued, password)
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		_ = json.NewEncoder(w).Encode(map[string]any{"user": user, "password": password,
			"until": now.Add(c.config.Login).UTC().Format(time.RFC3339)})
	default:
		answerProblem(w, http.StatusNotFound, "", "there is no such path", nil)
	}
}

// list answers with a page of a list, and the link to the next one (RFC 8288).
func (c *Cloud) list(w http.ResponseWriter, r *http.Request, f CloudFaults, name string, all []any) {
	from, _ := strconv.Atoi(r.URL.Query().Get("after"))
	from = min(max(from, 0), len(all))
	to := min(from+c.config.Page, len(all))
	query := maps.Clone(r.URL.Query())
	query.Set("after", strconv.Itoa(to))
	next := r.URL.Path + "?" + query.Encode()
	switch {
	case f.Next != "":
		next = f.Next + next
	case f.Endless:
		query.Set("after", strconv.Itoa(from))
		query.Set("turn", c.random())
		next = r.URL.Path + "?" + query.Encode()
	case to == len(all):
		next = ""
	}
	if next != "" {
		w.Header().Set("Link", "<"+next+`>; rel="next"`)
	}
	answer(w, map[string]any{name: all[from:to]})
}

func (c *Cloud) admit(w http.ResponseWriter, r *http.Request, s CloudServer) {
	var in struct {
		Range netip.Prefix `json:"range"`
		Until *time.Time   `json:"until"`
		Note  string       `json:"note"`
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, 64<<10)).Decode(&in); err != nil || !in.Range.IsValid() ||
		in.Until != nil && in.Until.Before(time.Now()) {
		answerProblem(w, http.StatusUnprocessableEntity, "", "a range and an end to come are wanted", nil)
		return
	}
	c.numbers++
	a := CloudAdmission{ID: fmt.Sprint("adm-", c.numbers), Server: s.ID, Name: s.Name, Range: in.Range,
		Until: in.Until, Note: in.Note, Mine: true, from: time.Now().Add(c.config.Delay)}
	c.begin(w, func() { c.admitted = append(c.admitted, a) })
}

// begin starts work that takes the cloud's delay.
func (c *Cloud) begin(w http.ResponseWriter, does func()) {
	c.numbers++
	id := fmt.Sprint("op-", c.numbers)
	c.works[id] = &work{began: time.Now(), does: does}
	c.operation(w, id, c.works[id], http.StatusAccepted)
}

func (c *Cloud) operation(w http.ResponseWriter, id string, wk *work, status int) {
	passed := time.Since(wk.began)
	if passed >= c.config.Delay && !wk.done {
		wk.done = true
		wk.does()
	}
	out := map[string]any{"id": id, "state": "running", "progress": 0}
	if c.config.Delay > 0 {
		out["progress"] = min(99, int(100*passed/c.config.Delay))
	}
	if wk.done {
		out["state"], out["progress"] = "done", 100
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Retry-After", "1")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(out)
}

// described gives a server as the API has it.
func described(s CloudServer, f CloudFaults) map[string]any {
	address := func(kind, at string) map[string]any {
		host, port, _ := net.SplitHostPort(at)
		n, _ := strconv.Atoi(port)
		return map[string]any{"kind": kind, "host": host, "port": n}
	}
	list := []any{}
	public := s.gate
	if f.Address != "" {
		public = f.Address
	}
	if public != "" {
		list = append(list, address("public", public))
	}
	if s.Private != "" {
		list = append(list, address("private", s.Private))
	}
	name := s.Name
	if f.OtherName != "" {
		name = f.OtherName
	}
	out := map[string]any{"id": s.ID, "name": name, "engine": s.Engine, "version": s.Version, "state": s.State,
		"region": s.Region, "addresses": list}
	for key, value := range map[string]string{"provider_name": s.ProviderName, "authority": s.Authority,
		"certificate_name": s.CertificateName} {
		if value != "" {
			out[key] = value
		}
	}
	replicas := []any{}
	for _, each := range s.Replicas {
		replicas = append(replicas, map[string]any{"name": each.Name, "state": each.State,
			"region": each.Region, "addresses": []any{address("public", each.gate)}})
	}
	out["replicas"] = replicas
	return out
}
