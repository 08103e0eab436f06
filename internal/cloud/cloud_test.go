package cloud

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/legacy"
	"golang.org/x/oauth2"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

// keys holds one key, as a wallet would.
type keys struct{ key secret.Secret }

func (k keys) Key(context.Context, Account) (secret.Secret, error) {
	if !k.key.Given() {
		return k.key, &finding.Problem{Code: finding.SecretNotKept,
			Facts: finding.Facts{finding.FactDetail: "No wallet keeps it."}}
	}
	return k.key, nil
}

// practice starts a cloud with three servers, of which one takes logins.
func practice(t *testing.T, config standin.CloudConfig) *standin.Cloud {
	t.Helper()
	authority, err := standin.NewAuthority("practice")
	must(t, err)
	config.Who = "keeper@fellside.example"
	n := 0
	config.Servers = []standin.CloudServer{
		{ID: "srv-1", Name: "bunkhouse", Engine: "postgres", Version: "16", Region: "north",
			ProviderName: "fellside:north:bunkhouse", Authority: string(authority.PEM),
			CertificateName: "bunkhouse.cloud.fellside.example",
			Private:         "10.20.0.5:5432", Databases: []string{"bunkhouse", "snow_depth", "archive"},
			Replicas: []standin.CloudReplica{{Name: "reports", Region: "south"}},
			Login: func(user, _ string) (string, string, error) {
				if n++; user == "" {
					user = fmt.Sprint("guest_", n)
				}
				return user, fmt.Sprint("pw-", n), nil
			}},
		{ID: "srv-2", Name: "ledger", Engine: "mariadb", Region: "north", State: "stopped"},
		{ID: "srv-3", Name: "inner", Engine: "postgres", Region: "north", Public: "none", Private: "10.20.0.6:5432"},
		{ID: "srv-4", Name: "twin", Engine: "postgres"}, {ID: "srv-5", Name: "twin", Engine: "postgres"},
	}
	c, err := standin.StartCloud(config)
	must(t, err)
	t.Cleanup(c.Close)
	return c
}

// client gives a client of a practice cloud whose sign-in is kept in a file.
func client(t *testing.T, c *standin.Cloud, file string, key secret.Secret) *Client {
	t.Helper()
	origin, err := ParseOrigin(c.URL())
	must(t, err)
	client, err := NewClient(Account{Name: "fellside", Origin: origin}, nil)
	must(t, err)
	client.Session = &Session{File: file, Keys: keys{key}}
	return client
}

// soon waits no time, and has a person confirm the code meanwhile.
func soon(c *standin.Cloud, yes bool) func(context.Context, time.Duration) error {
	return func(ctx context.Context, _ time.Duration) error {
		c.Confirm(yes)
		return ctx.Err()
	}
}

// signIn signs in, with the page confirmed.
func signIn(t *testing.T, c *standin.Cloud) *Client {
	t.Helper()
	key, err := NewKey()
	must(t, err)
	client := client(t, c, filepath.Join(t.TempDir(), "fellside.json"), key)
	asked, err := client.Ask(t.Context())
	must(t, err)
	tokens, err := client.Wait(t.Context(), asked, func(Waiting) {}, soon(c, true))
	must(t, err)
	signed, err := client.Session.Keep(t.Context(), client, key, tokens)
	if err != nil || signed.Who != "keeper@fellside.example" {
		t.Fatal(signed, err)
	}
	return client
}

// codeOf gives the finding's code of an error, "" for none.
func codeOf(err error) finding.Code {
	if p, _ := finding.AsProblem(err); p != nil {
		return p.Code
	}
	return finding.Code(fmt.Sprint(err))
}

// TestDescription has client and practice cloud go through all that docs/cloud-api.yaml
// describes, with each request and each answer held against it.
func TestDescription(t *testing.T) {
	loader := openapi3.NewLoader()
	document, err := loader.LoadFromFile("../../docs/cloud-api.yaml")
	must(t, err)
	document.Servers = nil // the practice cloud is elsewhere
	if err := document.Validate(t.Context()); err != nil || document.OpenAPI != "3.1.0" {
		t.Fatalf("the description itself: %v", err)
	}
	router, err := legacy.NewRouter(document)
	must(t, err)
	options := &openapi3filter.Options{AuthenticationFunc: func(_ context.Context,
		in *openapi3filter.AuthenticationInput) error {
		if in.RequestValidationInput.Request.Header.Get("Authorization") == "" {
			return errors.New("no token")
		}
		return nil
	}}
	held := func(r *http.Request, answer *httptest.ResponseRecorder) error {
		route, params, err := router.FindRoute(r)
		if err != nil {
			return err
		}
		in := &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route, Options: options}
		if err := openapi3filter.ValidateRequest(r.Context(), in); err != nil {
			return err
		}
		return openapi3filter.ValidateResponse(r.Context(),
			&openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: answer.Code,
				Header: answer.Result().Header, Options: options,
				Body: io.NopCloser(bytes.NewReader(answer.Body.Bytes()))})
	}
	var mu sync.Mutex
	seen := map[string]bool{}
	wrap := func(inner http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !strings.HasPrefix(r.URL.Path, "/v1/") && !strings.HasPrefix(r.URL.Path, "/.well") {
				inner.ServeHTTP(w, r)
				return
			}
			body, _ := io.ReadAll(r.Body)
			again := func() *http.Request {
				other := r.Clone(context.Background())
				other.Body = io.NopCloser(bytes.NewReader(body))
				return other
			}
			recorder := httptest.NewRecorder()
			inner.ServeHTTP(recorder, again())
			mu.Lock()
			defer mu.Unlock()
			if err := held(again(), recorder); err != nil {
				t.Errorf("%s %s: %v", r.Method, r.URL, err)
			}
			parts := strings.Split(r.URL.Path, "/")
			for i, part := range parts {
				for _, begin := range []string{"srv-", "adm-", "op-"} {
					if strings.HasPrefix(part, begin) {
						parts[i] = "{}"
					}
				}
			}
			seen[fmt.Sprint(r.Method, " ", strings.Join(parts, "/"), " ", recorder.Code)] = true
			for name, values := range recorder.Result().Header {
				w.Header()[name] = values
			}
			w.WriteHeader(recorder.Code)
			_, _ = w.Write(recorder.Body.Bytes())
		})
	}
	c := practice(t, standin.CloudConfig{Wrap: wrap, Service: "database rooms", Delay: 1100 * time.Millisecond})
	client := signIn(t, c)
	ctx := t.Context()
	if _, err := client.Servers(ctx, ""); codeOf(err) != finding.CloudServiceOff {
		t.Errorf("a service that is off: %v", err)
	} else if p, _ := finding.AsProblem(err); p.Facts[finding.FactLink] != c.URL()+"/services" ||
		p.Facts[finding.FactService] != "database rooms" {
		t.Errorf("%v", p.Facts)
	}
	c.SwitchOn(true)
	list, err := client.Servers(ctx, "")
	if err != nil || len(list) != 5 { // five, of two on a page
		t.Fatalf("%d servers: %v", len(list), err)
	}
	if names, err := client.Databases(ctx, "srv-1"); err != nil ||
		!slices.Equal(names, []string{"bunkhouse", "snow_depth", "archive"}) {
		t.Errorf("%v %v", names, err)
	}
	addr, err := client.Caller(ctx)
	if err != nil || addr.String() != "127.0.0.1" {
		t.Errorf("%v %v", addr, err)
	}
	until := time.Now().Add(time.Hour).Truncate(time.Second)
	var progress []int
	if err := client.Admit(ctx, "srv-1", netip.PrefixFrom(addr, 32), &until, "from the hut", func(n int) {
		progress = append(progress, n)
	}); err != nil || progress[0] != 0 || progress[len(progress)-1] != 100 {
		t.Errorf("%v %v", progress, err)
	}
	own, err := client.Admissions(ctx, "")
	if err != nil || len(own) != 1 || own[0].Wider() || !own[0].Until.Equal(until) ||
		own[0].Note != "from the hut" || !own[0].Mine {
		t.Fatalf("%+v %v", own, err)
	}
	if standing, err := client.Standing(ctx, "srv-1", 4); err != nil || !standing.Admitted() {
		t.Errorf("%+v %v", standing, err)
	}
	if err := client.Withdraw(ctx, own[0], func(int) {}); err != nil {
		t.Error(err)
	}
	if left, err := client.Admissions(ctx, "srv-1"); err != nil || len(left) != 0 {
		t.Errorf("%v %v", left, err)
	}
	if login, err := client.Login(ctx, "srv-1", "", "bunkhouse"); err != nil || login.User != "guest_1" {
		t.Errorf("%v %v", login.User, err)
	}
	if _, err := client.Login(ctx, "srv-2", "", ""); codeOf(err) != finding.SecretCloudHasNone {
		t.Errorf("a server without logins: %v", err)
	}
	if _, err := client.Databases(ctx, "srv-9"); !IsNotFound(err) {
		t.Errorf("no such server: %v", err)
	}
	if err := client.Session.End(ctx, client); err != nil || c.Signed() {
		t.Errorf("signed out: %v, at the cloud %v", err, c.Signed())
	}
	if _, err := client.Who(ctx); codeOf(err) != finding.CloudSignedOut {
		t.Errorf("after that: %v", err)
	}
	for _, want := range []string{
		"GET /.well-known/oauth-authorization-server 200", "GET /v1/account 200", "GET /v1/caller 200",
		"GET /v1/servers 200", "GET /v1/servers 403", "GET /v1/servers/{}/databases 200",
		"GET /v1/servers/{}/databases 404",
		"GET /v1/servers/{}/admissions 200", "POST /v1/servers/{}/admissions 202",
		"DELETE /v1/servers/{}/admissions/{} 202", "GET /v1/admissions 200", "GET /v1/operations/{} 200",
		"POST /v1/servers/{}/logins 201", "POST /v1/servers/{}/logins 403",
	} {
		if !seen[want] {
			t.Errorf("%s was not seen", want)
		}
	}
}

// TestWait walks the ends of a sign-in.
func TestWait(t *testing.T) {
	for _, each := range []struct {
		name   string
		faults standin.CloudFaults
		yes    bool
		code   time.Duration
		want   error
		find   finding.Code
		lost   bool
		slower bool
	}{
		{name: "confirmed", yes: true},
		{name: "denied", want: ErrDenied},
		{name: "asked too fast", faults: standin.CloudFaults{SlowDown: true}, yes: true, slower: true},
		{name: "the network lost in the middle", faults: standin.CloudFaults{Drop: 3}, yes: true, lost: true},
		{name: "too late", code: 2 * time.Second, want: ErrTooLate},
		{name: "another type of token", faults: standin.CloudFaults{TokenType: "mac"}, yes: true,
			find: finding.CloudMalformed},
		{name: "a code with escapes", faults: standin.CloudFaults{UserCode: "A\x1b[2J"}, find: finding.CloudMalformed},
		{name: "a long code", faults: standin.CloudFaults{UserCode: strings.Repeat("A", 17)}, find: finding.CloudMalformed},
	} {
		t.Run(each.name, func(t *testing.T) {
			t.Parallel()
			c := practice(t, standin.CloudConfig{Code: each.code})
			client := client(t, c, "", secret.Secret{})
			c.Misbehave(each.faults)
			asked, err := client.Ask(t.Context())
			if err != nil {
				if codeOf(err) != each.find {
					t.Fatal(err)
				}
				return
			}
			turns, lost := 0, 0
			var waits []time.Duration
			tokens, err := client.Wait(t.Context(), asked, func(w Waiting) {
				if w.Lost != nil {
					lost++
				}
			}, func(ctx context.Context, d time.Duration) error {
				waits = append(waits, d)
				if turns++; each.code == 0 && turns > 1 && (!each.lost || turns > 4) {
					c.Confirm(each.yes)
				}
				time.Sleep(time.Second) // the cloud allows one question a second
				return ctx.Err()
			})
			switch {
			case each.find != "":
				if codeOf(err) != each.find {
					t.Errorf("%v", err)
				}
			case !errors.Is(err, each.want):
				t.Errorf("%v instead of %v", err, each.want)
			case each.want == nil && (!tokens.Access.Given() || !tokens.Refresh.Given() ||
				time.Until(tokens.End) < 4*time.Minute):
				t.Error("no tokens")
			}
			if each.lost != (lost > 0) {
				t.Errorf("lost %d times", lost)
			}
			if each.lost && !(waits[2] > waits[1] && waits[3] > waits[2]) {
				t.Errorf("while the network was lost, it waited %v", waits)
			}
			if each.slower && waits[1] != waits[0]+5*time.Second {
				t.Errorf("asked more slowly, it waited %v", waits)
			}
		})
	}
	c := practice(t, standin.CloudConfig{})
	client := client(t, c, "", secret.Secret{})
	asked, err := client.Ask(t.Context())
	must(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := client.Wait(ctx, asked, func(Waiting) {}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("Ctrl-C: %v", err)
	}
}

// TestTwoRefresh has two processes with the same sign-in find their token refused at the same
// time, again and again: both go on, since the account is locked and what is stored is read
// again. The old token, used once more, ends the sign-in.
func TestTwoRefresh(t *testing.T) {
	c := practice(t, standin.CloudConfig{Page: 100})
	one := signIn(t, c)
	s := one.Session
	two := client(t, c, s.File, s.Keys.(keys).key)
	before := s.tokens.Refresh
	for range 5 {
		c.EndAccess()
		var group sync.WaitGroup
		for _, each := range []*Client{one, two} {
			group.Go(func() {
				if _, err := each.Servers(t.Context(), ""); err != nil {
					t.Errorf("%v", err)
				}
			})
		}
		group.Wait()
	}
	if !c.Signed() {
		t.Error("the cloud saw an old token")
	}
	if _, err := one.Refresh(t.Context(), before); codeOf(err) != finding.CloudExpired {
		t.Errorf("an old token: %v", err)
	}
	c.EndAccess()
	for _, each := range []*Client{one, two} {
		if _, err := each.Servers(t.Context(), ""); codeOf(err) != finding.CloudExpired {
			t.Errorf("after that: %v", err)
		}
	}
	data, err := os.ReadFile(s.File)
	must(t, err)
	for _, token := range c.Issued() {
		if bytes.Contains(data, []byte(token)) {
			t.Error("a token is in the file as it is")
		}
	}
}

// TestSignInAgain has a second sign-in end the first one at the cloud, so that none is left over
// there.
func TestSignInAgain(t *testing.T) {
	c := practice(t, standin.CloudConfig{})
	client := signIn(t, c)
	before := client.Session.tokens.Refresh
	asked, err := client.Ask(t.Context())
	must(t, err)
	tokens, err := client.Wait(t.Context(), asked, func(Waiting) {}, soon(c, true))
	must(t, err)
	if _, err := client.Session.Keep(t.Context(), client, client.Session.Keys.(keys).key, tokens); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Refresh(t.Context(), before); codeOf(err) != finding.CloudExpired {
		t.Errorf("the sign-in of before: %v", err)
	}
	if _, err := client.Servers(t.Context(), ""); err != nil {
		t.Errorf("the new one: %v", err)
	}
}

// TestKept changes what is stored of a sign-in: nothing of it is used then.
func TestKept(t *testing.T) {
	c := practice(t, standin.CloudConfig{})
	good := signIn(t, c)
	file := good.Session.File
	data, err := os.ReadFile(file)
	must(t, err)
	other, err := NewKey()
	must(t, err)
	for name, each := range map[string]struct {
		text string
		key  secret.Secret
		code finding.Code
	}{
		"cut":          {string(data[:len(data)/2]), good.Session.Keys.(keys).key, finding.CloudKeyMissing},
		"another key":  {string(data), other, finding.CloudKeyMissing},
		"no key":       {string(data), secret.Secret{}, finding.CloudKeyMissing},
		"what is none": {string(data), secret.New("x"), finding.CloudKeyMissing},
		"another cloud": {strings.Replace(string(data), c.URL(), "http://127.0.0.1:9", 1),
			good.Session.Keys.(keys).key, finding.CloudSignedOut},
		"another form": {strings.Replace(string(data), `"format":1`, `"format":2`, 1),
			good.Session.Keys.(keys).key, finding.CloudKeyMissing},
	} {
		path := filepath.Join(t.TempDir(), "s.json")
		must(t, os.WriteFile(path, []byte(each.text), 0o600))
		asked := len(c.Asked())
		if _, err := client(t, c, path, each.key).Who(t.Context()); codeOf(err) != each.code {
			t.Errorf("%s: %v", name, err)
		}
		if len(c.Asked()) != asked {
			t.Errorf("%s: the cloud was asked", name)
		}
	}
	// A sign-in for one cloud, in an account whose file was made to lead to another: it is not
	// sent there.
	must(t, os.Chmod(file, 0o644))
	if _, err := client(t, c, file, good.Session.Keys.(keys).key).Who(t.Context()); err != nil {
		t.Errorf("what others may read, sealed: %v", err)
	}
	must(t, os.Chmod(file, 0o666))
	if _, err := client(t, c, file, good.Session.Keys.(keys).key).Who(t.Context()); codeOf(err) != finding.CloudKeyMissing {
		t.Errorf("what others may write: %v", err)
	}
}

// TestHostileCloud has a cloud misbehave in each way, before the sign-in and after it: it is
// found out, quickly, and no token reaches another host.
func TestHostileCloud(t *testing.T) {
	var mu sync.Mutex
	var reached []string
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		reached = append(reached, r.Method+" "+r.URL.Path)
		mu.Unlock()
	}))
	defer elsewhere.Close()
	for name, each := range map[string]struct {
		faults standin.CloudFaults
		code   finding.Code
		before bool // already at the sign-in
	}{
		"another issuer":        {standin.CloudFaults{Issuer: "https://other.example"}, finding.CloudOtherIssuer, true},
		"an endpoint elsewhere": {standin.CloudFaults{Elsewhere: elsewhere.URL}, finding.CloudOtherIssuer, true},
		"a redirect":            {standin.CloudFaults{Redirect: elsewhere.URL}, finding.CloudOtherIssuer, true},
		"no JSON":               {standin.CloudFaults{NotJSON: true}, finding.CloudMalformed, true},
		"an endless answer":     {standin.CloudFaults{Huge: true}, finding.CloudMalformed, true},
		"silence":               {standin.CloudFaults{Stall: true}, finding.CloudSilent, true},
		"a page elsewhere":      {standin.CloudFaults{Next: elsewhere.URL}, finding.CloudOtherIssuer, false},
		"endless pages":         {standin.CloudFaults{Endless: true}, finding.CloudMalformed, false},
		"too many requests":     {standin.CloudFaults{Status: 429, Retry: "7"}, finding.CloudRateLimited, false},
		"down":                  {standin.CloudFaults{Status: 503}, finding.CloudDown, false},
		"not allowed":           {standin.CloudFaults{Status: 403, Words: "not you"}, finding.CloudRefused, false},
		"a status of nobody":    {standin.CloudFaults{Status: 418}, finding.CloudUnknown, false},
		"every token refused":   {standin.CloudFaults{Status: 401}, finding.CloudExpired, false},
		"words that repeat a token": {standin.CloudFaults{Status: 403, Words: "no", Echo: true},
			finding.CloudRefused, false},
		"a name that cannot be seen": {standin.CloudFaults{OtherName: "bunk\x1b[31mhouse"}, finding.CloudMalformed, false},
		"an address that is none":    {standin.CloudFaults{Address: "a b:5432"}, finding.CloudMalformed, false},
		"another user's login":       {standin.CloudFaults{Login: "steward"}, finding.CloudMalformed, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := practice(t, standin.CloudConfig{})
			client := signIn(t, c)
			client.Limit, client.metadata = 2*time.Second, nil
			c.Misbehave(each.faults)
			began := time.Now()
			err := client.Discover(t.Context())
			if !each.before {
				must(t, err)
				if each.faults.Login != "" {
					_, err = client.Login(t.Context(), "srv-1", "reader", "")
				} else {
					_, err = client.Servers(t.Context(), "")
				}
			}
			if codeOf(err) != each.code {
				t.Errorf("%v", err)
			}
			p, _ := finding.AsProblem(err)
			for _, token := range c.Issued() {
				if p != nil && (strings.Contains(fmt.Sprint(p.Facts, p.Tried, p.Words.Bare()), token) ||
					strings.Contains(fmt.Sprintf("%+v", err), token)) {
					t.Error("a token is in the error")
				}
			}
			if took := time.Since(began); took > 8*time.Second {
				t.Errorf("it took %s", took)
			}
			mu.Lock()
			defer mu.Unlock()
			if len(reached) > 0 {
				t.Errorf("another host was asked: %v", reached)
			}
		})
	}
}

// says has a practice cloud answer requests of a path with a status and a text, in which {token}
// stands for the token that came, and {form} for a form's.
func says(path string, status int, text string) standin.CloudFaults {
	return standin.CloudFaults{Answer: func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasPrefix(r.URL.Path, path) {
			return false
		}
		_ = r.ParseForm()
		kind := "application/json"
		if status >= 300 {
			kind = "application/problem+json"
		}
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(status)
		token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		_, _ = io.WriteString(w, strings.NewReplacer("{token}", token, "{escaped}", escaped(token), "{form}",
			r.PostForm.Get("refresh_token")+r.PostForm.Get("device_code")+r.PostForm.Get("token")).Replace(text))
		return true
	}}
}

// escaped writes each letter of a text as JSON's escape.
func escaped(text string) string {
	var b strings.Builder
	for _, r := range text {
		fmt.Fprintf(&b, "\\u%04x", r)
	}
	return b.String()
}

// TestRepeatedSecrets has a cloud put each secret that it was sent into each text that is shown:
// problems, links, names, operations, and the errors of the sign-in. None is in what comes of it.
func TestRepeatedSecrets(t *testing.T) {
	admit := func(c *Client) error {
		return c.Admit(t.Context(), "srv-1", netip.MustParsePrefix("203.0.113.9/32"), nil, "", func(int) {})
	}
	servers := func(c *Client) error { _, err := c.Servers(t.Context(), ""); return err }
	refresh := func(c *Client) error { _, err := c.Refresh(t.Context(), c.Session.current().Refresh); return err }
	for about, each := range map[string]struct {
		faults standin.CloudFaults
		do     func(c *Client) error
		code   finding.Code
	}{
		"a problem's title":    {says("/v1/", 403, `{"title":"no {token}"}`), servers, finding.CloudRefused},
		"a problem's detail":   {says("/v1/", 503, `{"title":"no","detail":"x={token};"}`), servers, finding.CloudDown},
		"written with escapes": {says("/v1/", 403, `{"title":"{escaped}"}`), servers, finding.CloudRefused},
		"a service's name": {says("/v1/", 403,
			`{"type":"`+ServiceOff+`","title":"off","service":"s {token}"}`), servers, finding.CloudServiceOff},
		"a link": {says("/v1/", 403,
			`{"type":"`+ServiceOff+`","title":"off","service":"s","link":"https://fellside.example/on?{token}"}`),
			servers, finding.CloudServiceOff},
		"a link with escapes": {says("/v1/", 403,
			`{"type":"`+ServiceOff+`","title":"off","service":"s","link":"https://fellside.example/on?t={escaped}"}`),
			servers, finding.CloudServiceOff},
		"a login's refusal": {says("/v1/", 409, `{"type":"`+LoginsOff+`","title":"no {token}"}`), servers,
			finding.SecretCloudHasNone},
		"a server's name": {says("/v1/", 200,
			`{"servers":[{"id":"srv-1","name":"{token}","engine":"postgres","state":"running","addresses":[]}]}`),
			servers, finding.CloudMalformed},
		"a server's region": {says("/v1/", 200,
			`{"servers":[{"id":"srv-1","name":"a","region":"{escaped}","engine":"postgres","state":"running","addresses":[]}]}`),
			servers, finding.CloudMalformed},
		"an operation's problem": {says("/v1/", 202,
			`{"id":"op-1","state":"failed","problem":{"title":"no {token}"}}`), admit, finding.CloudMalformed},
		"an account's name": {says("/v1/", 200, `{"name":"{token}"}`), func(c *Client) error {
			_, err := c.Who(t.Context())
			return err
		}, finding.CloudMalformed},
		"a redirect": {standin.CloudFaults{Answer: func(w http.ResponseWriter, r *http.Request) bool {
			http.Redirect(w, r, "https://other.example/?"+r.Header.Get("Authorization"), http.StatusFound)
			return true
		}}, servers, finding.CloudOtherIssuer},
		"a refresh's error": {says("/token", 400,
			`{"error":"invalid_request","error_description":"no {form}"}`), refresh, finding.CloudUnknown},
		"a refresh's status": {says("/token", 503, `{"error":"{form}"}`), refresh, finding.CloudDown},
		"a revocation's refusal": {says("/revoke", 403, `{"title":"{form}"}`), func(c *Client) error {
			return c.Revoke(t.Context(), c.Session.current().Refresh)
		}, finding.CloudRefused},
		"a temporary password": {says("/v1/servers/srv-1/logins", 403, `{"title":"you had pw-1"}`),
			func(c *Client) error { _, err := c.Login(t.Context(), "srv-1", "", ""); return err },
			finding.CloudRefused},
	} {
		t.Run(about, func(t *testing.T) {
			t.Parallel()
			c := practice(t, standin.CloudConfig{})
			client := signIn(t, c)
			if _, err := client.Login(t.Context(), "srv-1", "", ""); err != nil {
				t.Fatal(err)
			}
			c.Misbehave(each.faults)
			err := each.do(client)
			p, _ := finding.AsProblem(err)
			if p == nil || p.Code != each.code {
				t.Fatalf("%v", err)
			}
			shown := fmt.Sprintf("%v %+v %v %v %v", err, p.Err, p.Facts, p.Tried, p.Words.Bare())
			for _, token := range append(c.Issued(), "pw-1") {
				if strings.Contains(shown, token) || strings.Contains(shown, escaped(token)) {
					t.Errorf("it is shown: %s", strings.ReplaceAll(shown, token, "<HERE>"))
				}
			}
		})
	}
	// The code of a device comes back in the error of the question for its tokens.
	c := practice(t, standin.CloudConfig{})
	client := client(t, c, filepath.Join(t.TempDir(), "fellside.json"), secret.Secret{})
	asked, err := client.Ask(t.Context())
	must(t, err)
	c.Misbehave(says("/token", 400, `{"error":"invalid_request","error_description":"no {form}"}`))
	if _, err = client.Wait(t.Context(), asked, func(Waiting) {}, func(context.Context, time.Duration) error {
		return nil
	}); codeOf(err) != finding.CloudUnknown ||
		strings.Contains(fmt.Sprintf("%+v", err), asked.device.Reveal()) {
		t.Errorf("%v", codeOf(err))
	}
}

// TestNoEmptyToken looks at the header of the requests that are made before there is a token.
func TestNoEmptyToken(t *testing.T) {
	c := practice(t, standin.CloudConfig{})
	var mu sync.Mutex
	sent := map[string]bool{}
	c.Misbehave(standin.CloudFaults{Answer: func(_ http.ResponseWriter, r *http.Request) bool {
		mu.Lock()
		defer mu.Unlock()
		if _, there := r.Header["Authorization"]; there {
			sent[r.URL.Path] = strings.HasPrefix(r.Header.Get("Authorization"), "Bearer ") &&
				len(r.Header.Get("Authorization")) > 20
		}
		return false
	}})
	if _, err := signIn(t, c).Servers(t.Context(), ""); err != nil {
		t.Fatal(err)
	}
	if sent[wellKnown] || len(sent) != 2 || !sent["/v1/account"] || !sent["/v1/servers"] {
		t.Errorf("%v", sent)
	}
	if _, there := sent[wellKnown]; there {
		t.Error("the metadata are asked for with a token")
	}
}

// TestBombs has a cloud send little that becomes much: each answer is refused by its shape, its
// size, or the size of its list.
func TestBombs(t *testing.T) {
	many := func(n int, text string) string { return strings.Repeat(text+",", n) + text }
	authority := strings.Repeat("a", 60<<10)
	n := 0
	pagesOf := func(body func(n int) string) standin.CloudFaults {
		return standin.CloudFaults{Answer: func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/v1/servers" {
				return false
			}
			n++
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Link", fmt.Sprintf(`</v1/servers?page=%d>; rel="next"`, n))
			_, _ = io.WriteString(w, body(n))
			return true
		}}
	}
	for about, each := range map[string]struct {
		faults standin.CloudFaults
		says   string
	}{
		"empty servers": {says("/v1/", 200, `{"servers":[`+many(300_000, "{}")+`]}`), "values in one list"},
		"empty copies": {says("/v1/", 200,
			`{"servers":[`+many(20, `{"replicas":[`+many(4000, "{}")+`]}`)+`]}`), "more than 50000 values"},
		"depth":             {says("/v1/", 200, strings.Repeat(`{"servers":[`, 100)), "in each other"},
		"a bad second page": {pagesOf(func(n int) string { return `{"servers":[{}]}` }), "the id of a server is none"},
		"large authorities": {pagesOf(func(n int) string {
			return `{"servers":[` + many(10,
				fmt.Sprintf(`{"id":"srv-%d","name":"a","engine":"postgres","state":"running","addresses":[],"authority":"%s"}`,
					n, authority)) + `]}`
		}), "a list has more than 8388608 bytes"},
		"more than all items": {pagesOf(func(n int) string {
			return `{"servers":[` + many(900,
				fmt.Sprintf(`{"id":"srv-%d","name":"a","engine":"postgres","state":"running","addresses":[]}`,
					n)) + `]}`
		}), "more than 5000 items"},
	} {
		c := practice(t, standin.CloudConfig{})
		client := signIn(t, c)
		c.Misbehave(each.faults)
		list, err := client.Servers(t.Context(), "")
		p, _ := finding.AsProblem(err)
		if p == nil || p.Code != finding.CloudMalformed ||
			!strings.Contains(p.Facts[finding.FactWrong], each.says) || list != nil {
			t.Errorf("%s: %d servers, %v %v", about, len(list), err, p)
		}
	}
}

// TestSlowPages has a cloud take most of the time that an answer has for each page, without an
// end: one deadline ends them all, for a connection that of a leg.
func TestSlowPages(t *testing.T) {
	c := practice(t, standin.CloudConfig{})
	client := signIn(t, c)
	client.Limit = 300 * time.Millisecond
	n := 0
	c.Misbehave(standin.CloudFaults{Answer: func(w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/v1/servers" {
			return false
		}
		_ = pause(r.Context(), 200*time.Millisecond)
		n++
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Link", fmt.Sprintf(`</v1/servers?page=%d>; rel="next"`, n))
		_, _ = io.WriteString(w, `{"servers":[]}`)
		return true
	}})
	info, _ := known.Info("postgres")
	l := &Locator{Want: target.Clouded{Account: "fellside", Server: "bunkhouse"}, Info: info,
		Client: func(context.Context) (*Client, error) { return client, nil }}
	for about, each := range map[string]struct {
		do   func() error
		most time.Duration
	}{
		"a connection": {func() error { _, err := l.Find(t.Context()); return err }, time.Second},
		"a list":       {func() error { _, err := client.Servers(t.Context(), ""); return err }, 3 * time.Second},
	} {
		began := time.Now()
		if err := each.do(); codeOf(err) != finding.CloudSilent {
			t.Errorf("%s: %v", about, err)
		}
		if took := time.Since(began); took > each.most {
			t.Errorf("%s took %s", about, took)
		}
	}
}

// TestWaitersAreFree has several goroutines wait for one question that is not answered: one of
// them leaves when its own context ends, the question goes on for the others, and ends with the
// last.
func TestWaitersAreFree(t *testing.T) {
	c := practice(t, standin.CloudConfig{})
	client := signIn(t, c)
	asked, over := make(chan struct{}, 8), make(chan struct{}, 8)
	c.Misbehave(standin.CloudFaults{Answer: func(_ http.ResponseWriter, r *http.Request) bool {
		asked <- struct{}{}
		<-r.Context().Done()
		over <- struct{}{}
		return true
	}})
	info, _ := known.Info("postgres")
	l := &Locator{Want: target.Clouded{Account: "fellside", Server: "bunkhouse"}, Info: info, Memory: &Memory{},
		Client: func(context.Context) (*Client, error) { return client, nil }}
	ends := make([]context.CancelFunc, 3)
	results := make([]chan error, 3)
	for i := range ends {
		var ctx context.Context
		ctx, ends[i] = context.WithCancel(t.Context())
		results[i] = make(chan error, 1)
		go func() { _, err := l.Find(ctx); results[i] <- err }()
	}
	<-asked
	for len(results[0]) == 0 { // it may not have joined yet
		ends[0]()
		runtime.Gosched()
	}
	if err := <-results[0]; !errors.Is(err, context.Canceled) {
		t.Errorf("the one that left: %v", err)
	}
	select {
	case <-over:
		t.Error("the question ended with one of three")
	default:
	}
	ends[1]()
	ends[2]()
	<-over
	for _, each := range results[1:] {
		if err := <-each; !errors.Is(err, context.Canceled) {
			t.Error(err)
		}
	}
	if len(asked) > 0 {
		t.Error("the cloud was asked more than once")
	}
}

// TestNumbersThatOverflow signs in at a cloud whose seconds are beyond all reason.
func TestNumbersThatOverflow(t *testing.T) {
	for _, seconds := range []string{"-1", "0", "10000000000", "9223372036", "9223372036854775807",
		"-9223372036854775808"} {
		c := practice(t, standin.CloudConfig{})
		c.Misbehave(standin.CloudFaults{Answer: func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/device_authorization" {
				return false
			}
			answerJSON(w, `{"device_code":"d","user_code":"A-B","verification_uri":"`+c.URL()+`/device","expires_in":`+seconds+`,"interval":`+seconds+`}`)
			return true
		}})
		client := client(t, c, filepath.Join(t.TempDir(), "fellside.json"), secret.Secret{})
		asked, err := client.Ask(t.Context())
		if err != nil {
			t.Errorf("%s: %v", seconds, err)
			continue
		}
		if left := time.Until(asked.End); left < 29*time.Minute || left > 31*time.Minute ||
			asked.interval < time.Second || asked.interval > time.Minute {
			t.Errorf("%s seconds: it ends in %s, and is asked each %s", seconds, left, asked.interval)
		}
		if made := tokensOf(&oauth2.Token{AccessToken: "a", RefreshToken: "r",
			Expiry: time.Now().Add(time.Duration(-1))}); !made.End.IsZero() {
			t.Errorf("a token that was over when it came ends at %s", made.End)
		}
	}
}

func answerJSON(w http.ResponseWriter, text string) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, text)
}

// TestCertificates has a cloud with another's certificate, with one of nobody's authority, and
// with the right one.
func TestCertificates(t *testing.T) {
	authority, err := standin.NewAuthority("cloud authority")
	must(t, err)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	must(t, os.WriteFile(ca, authority.PEM, 0o600))
	for name, each := range map[string]struct {
		certificate, ca string
		code            finding.Code
	}{
		"right": {"localhost", ca, ""}, "another name": {"other.example", ca, finding.CloudNotTrusted},
		"nobody's authority": {"localhost", "", finding.CloudNotTrusted},
	} {
		config, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), each.certificate)
		must(t, err)
		c, err := standin.StartCloud(standin.CloudConfig{Host: "localhost", TLS: config})
		must(t, err)
		origin, err := ParseOrigin(c.URL())
		must(t, err)
		client, err := NewClient(Account{Name: "fellside", Origin: origin, CA: each.ca}, nil)
		must(t, err)
		if err := client.Discover(t.Context()); err != nil && codeOf(err) != each.code || err == nil && each.code != "" {
			t.Errorf("%s: %v", name, err)
		}
		if n := len(c.Asked()); each.code != "" && n != 0 {
			t.Errorf("%s: %d requests came", name, n)
		}
		c.Close()
	}
	// Nothing listens: the cloud cannot be reached.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	_ = l.Close()
	origin, _ := ParseOrigin("http://" + l.Addr().String())
	client, _ := NewClient(Account{Name: "fellside", Origin: origin}, nil)
	if err := client.Discover(t.Context()); codeOf(err) != finding.CloudUnreachable {
		t.Errorf("nobody there: %v", err)
	}
}

// TestFind finds servers and copies, and says why one cannot serve.
func TestFind(t *testing.T) {
	c := practice(t, standin.CloudConfig{})
	signed := signIn(t, c)
	c.Change("srv-5", func(s *standin.CloudServer) { s.State = "starting" })
	postgres, _ := known.Info("postgres")
	for want, each := range map[target.Clouded]struct {
		code finding.Code
		fact finding.Fact
		has  string
	}{
		{Server: "bunkhouse"}:                     {},
		{Server: "srv-1"}:                         {},
		{Server: "bunkhouse", Replica: "reports"}: {},
		{Server: "bunkhouse", Address: "private"}: {},
		{Server: "bunkhouse", Replica: "report"}: {finding.CloudReplicaUnknown, finding.FactNearServer,
			"{account: fellside, server: bunkhouse, replica: reports}"},
		{Server: "bunkhose"}: {finding.CloudServerUnknown, finding.FactNearServer, "fellside/bunkhouse"},
		{Server: "ledger"}:   {finding.CloudOtherEngine, finding.FactFoundEngine, "mariadb"},
		{Server: "inner"}: {finding.CloudPrivateOnly, finding.FactPrivateServer,
			"{account: fellside, server: inner, address: private}"},
		{Server: "srv-4", Address: "private"}: {finding.CloudNoPrivate, finding.FactPublicServer, "fellside/srv-4"},
		{Server: "twin"}:                      {finding.CloudSeveral, finding.FactNearServer, "fellside/srv-4"},
		{Server: "srv-5"}:                     {finding.CloudStarting, finding.FactState, "starting"},
		{Server: "bunkhouse", Replica: "reports", Address: "private"}: {finding.CloudNoPrivate,
			finding.FactPublicServer, "{account: fellside, server: bunkhouse, replica: reports}"},
	} {
		want.Account = "fellside"
		l := &Locator{Want: want, Info: postgres, Client: func(context.Context) (*Client, error) { return signed, nil }}
		found, err := l.Find(t.Context())
		p, _ := finding.AsProblem(err)
		switch {
		case each.code == "" && (err != nil || found.ID != "srv-1" || found.Authorities == nil):
			t.Errorf("%v: %v", want, err)
		case each.code != "" && (p == nil || p.Code != each.code || p.Facts[each.fact] != each.has):
			t.Errorf("%v: %v, %v", want, err, p)
		}
		if each.code == "" {
			if _, err := profile.ParseCloud(profile.CloudText(want)); err != nil {
				t.Errorf("%v: %v", want, err)
			}
		}
	}
	mysql, _ := known.Info("mariadb")
	l := &Locator{Want: target.Clouded{Account: "fellside", Server: "ledger"}, Info: mysql,
		Client: func(context.Context) (*Client, error) { return signed, nil }}
	if _, err := l.Find(t.Context()); codeOf(err) != finding.CloudStopped {
		t.Errorf("stopped: %v", err)
	}
	// What a cloud said goes on to serve for a while when it is down, and a copy is asked anew
	// after it.
	l = &Locator{Want: target.Clouded{Account: "fellside", Server: "bunkhouse"}, Info: postgres,
		Client: func(context.Context) (*Client, error) { return signed, nil }}
	if _, err := l.Find(t.Context()); err != nil {
		t.Fatal(err)
	}
	l.Memory.last.when = time.Now().Add(-time.Hour)
	c.Misbehave(standin.CloudFaults{Status: 503})
	if _, err := l.Find(t.Context()); err != nil {
		t.Errorf("while the cloud is down: %v", err)
	}
	c.Misbehave(standin.CloudFaults{Status: 403})
	if _, err := l.Find(t.Context()); codeOf(err) != finding.CloudRefused {
		t.Errorf("when the cloud refuses: %v", err)
	}
}

// TestAddressRefused lists addresses that a cloud elsewhere may not name, and some that it may.
func TestAddressRefused(t *testing.T) {
	far, _ := ParseOrigin("https://cloud.fellside.example")
	near, _ := ParseOrigin("http://127.0.0.1:8080")
	for _, each := range []struct {
		address, kind string
		refused       bool
	}{
		{"127.0.0.1", "", true}, {"::1", "", true}, {"::ffff:127.0.0.1", "", true}, {"0.0.0.0", "", true},
		{"::", "", true}, {"169.254.169.254", "", true}, {"fe80::1", "", true}, {"224.0.0.1", "", true},
		{"10.0.0.1", "", true}, {"192.168.1.1", "", true}, {"172.16.0.9", "", true}, {"100.64.0.1", "", true},
		{"fd00::1", "", true}, {"198.18.0.1", "", true}, {"240.0.0.1", "", true}, {"255.255.255.255", "", true},
		{"203.0.113.9", "", false}, {"2001:db8::9", "", false}, {"8.8.4.4", "", false},
		{"10.0.0.1", "private", false}, {"fd00::1", "private", false}, {"100.64.0.1", "private", false},
		{"203.0.113.9", "private", true}, {"127.0.0.1", "private", true}, {"169.254.1.1", "private", true},
	} {
		l := &Locator{Want: target.Clouded{Address: each.kind}}
		addr := netip.MustParseAddr(each.address)
		if why := l.refused(&Client{Account: Account{Origin: far}}, addr, true); (why != "") != each.refused {
			t.Errorf("%s %s: %q", each.kind, each.address, why)
		}
		if why := l.refused(&Client{Account: Account{Origin: near}}, addr, true); why != "" {
			t.Errorf("of a cloud on this machine, %s: %q", each.address, why)
		}
	}
	own, err := net.InterfaceAddrs()
	must(t, err)
	for _, each := range own {
		prefix := netip.MustParsePrefix(each.String())
		if why := (&Locator{}).refused(&Client{Account: Account{Origin: far}}, prefix.Addr(), true); why == "" {
			t.Errorf("%s is this machine's own", prefix)
		}
	}
}

// steady resolves every name to one address.
type steady netip.Addr

func (s steady) LookupNetIP(context.Context, string, string) ([]netip.Addr, error) {
	return []netip.Addr{netip.Addr(s)}, nil
}

// TestNameThatLeadsHere has a cloud give a name that leads to this machine: it is looked up, and
// not connected to.
func TestNameThatLeadsHere(t *testing.T) {
	far, _ := ParseOrigin("https://cloud.fellside.example")
	c := &Client{Account: Account{Name: "fellside", Origin: far}}
	for _, host := range []string{"db.fellside.example", "localhost", "db.localhost"} {
		l := &Locator{Want: target.Clouded{Account: "fellside", Server: "bunkhouse"},
			Resolver: steady(netip.MustParseAddr("127.0.0.1")),
			Memory:   &Memory{last: &Found{Client: c, Host: host, Port: 5432, CertificateName: host, when: time.Now()}}}
		n := 0
		for at, err := range l.Locate(t.Context(), nil, func(string, string) {}) {
			if n++; codeOf(err) != finding.CloudAddressRefused {
				t.Errorf("%s: %v %v", host, at, err)
			}
		}
		if n != 1 {
			t.Errorf("%s: %d addresses", host, n)
		}
	}
}

// TestLogins has one process take one login until most of its life is over, and another one for
// each user and database.
func TestLogins(t *testing.T) {
	c := practice(t, standin.CloudConfig{Login: 100 * time.Second})
	client := signIn(t, c)
	now := time.Now()
	logins := Logins{Now: func() time.Time { return now }}
	get := func(user, database string) Login {
		t.Helper()
		login, err := logins.Get(t.Context(), client, "srv-1", user, database)
		must(t, err)
		return login
	}
	first := get("", "bunkhouse")
	now = now.Add(75 * time.Second)
	if again := get("", "bunkhouse"); again.User != first.User || !again.Password.Same(first.Password) {
		t.Errorf("after 75 of 100 seconds, %s instead of %s", again.User, first.User)
	}
	now = now.Add(10 * time.Second)
	if again := get("", "bunkhouse"); again.User == first.User {
		t.Error("after 85 of 100 seconds, the same login")
	}
	if other := get("reader", "bunkhouse"); other.User != "reader" {
		t.Errorf("%s", other.User)
	}
	if other := get("", "archive"); other.User == first.User {
		t.Error("the same login for another database")
	}
	if text := fmt.Sprintf("%v %+v %#v", first, first, first); strings.Contains(text, first.Password.Reveal()) {
		t.Error("a login prints its password")
	}
}

// TestOrigin reads URLs of clouds.
func TestOrigin(t *testing.T) {
	for text, want := range map[string]string{
		"https://cloud.fellside.example":      "https://cloud.fellside.example",
		"HTTPS://Cloud.Fellside.Example:443/": "https://cloud.fellside.example",
		"https://c.example:8443":              "https://c.example:8443",
		"http://127.0.0.1:8080":               "http://127.0.0.1:8080", "http://localhost": "http://localhost",
		"http://[::1]:9": "http://[::1]:9", "https://[2001:db8::1]": "https://[2001:db8::1]",
		"http://hut.localhost:1":        "http://hut.localhost:1",
		"http://cloud.fellside.example": "", "http://10.0.0.1": "", "https://u:p@c.example": "",
		"https://c.example/path": "", "https://c.example?q": "", "https://c.example#f": "",
		"ftp://c.example": "", "c.example": "", "": "",
		"https://": "", "https://*.c.example": "", "https://c.example:0": "", "https://a b": "",
		"https://c.example\n": "https://c.example", "https://c\x1b.example": "", "http://127.0.0.1.c.example": "",
	} {
		o, err := ParseOrigin(text)
		if got := o.String(); err == nil && got != want || err != nil && want != "" {
			t.Errorf("%q: %q, %v", text, got, err)
		}
	}
}

// FuzzParseOrigin reads texts as URLs of clouds: what is taken is https, or on this machine, and
// comes back the same.
func FuzzParseOrigin(f *testing.F) {
	for _, seed := range []string{"https://cloud.fellside.example", "http://127.0.0.1:8080", "http://[::1]:9",
		"https://u@h", "http://localhost.", "https://[fe80::1%25eth0]:1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		o, err := ParseOrigin(text)
		if err != nil {
			return
		}
		again, err := ParseOrigin(o.String())
		if err != nil || again != o {
			t.Errorf("%q is %v, and comes back as %v: %v", text, o, again, err)
		}
		if !strings.HasPrefix(o.String(), "https://") && !o.Loopback() {
			t.Errorf("%q is plain and elsewhere", text)
		}
	})
}

// FuzzServers reads bytes as a cloud's list of servers: it is taken as the description has it, or
// refused; what is shown of it can be shown.
func FuzzServers(f *testing.F) {
	for _, seed := range []string{`{"servers":[{"id":"a","name":"b","engine":"postgres","state":"running","addresses":[{"kind":"public","host":"h","port":1}]}]}`,
		`{"servers":null}`, `[]`, `{"servers":[{"id":"\u001b"}]}`} {
		f.Add([]byte(seed))
	}
	key, _ := NewKey()
	f.Fuzz(func(t *testing.T, data []byte) {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write(data)
		}))
		defer server.Close()
		origin, err := ParseOrigin(server.URL)
		must(t, err)
		c, err := NewClient(Account{Name: "f", Origin: origin}, nil)
		must(t, err)
		c.Session = &Session{Keys: keys{key}, tokens: Tokens{Access: secret.New("t"), Refresh: secret.New("r")}}
		list, err := c.Servers(t.Context(), "")
		for _, s := range list {
			if !target.IsCloudWord(s.ID) || !shown(s.Name, 128) {
				t.Errorf("%q is taken", s.ID)
			}
		}
		if p, other := finding.AsProblem(err); err != nil && (p == nil || other != nil) {
			t.Errorf("%v is no finding", err)
		}
	})
}

// TestAccounts writes accounts and reads them, and refuses what is none.
func TestAccounts(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "clouds")
	list := Accounts{Dir: dir}
	origin, _ := ParseOrigin("https://cloud.fellside.example")
	for _, a := range []Account{{Name: "fellside", Origin: origin},
		{Name: "hills", Origin: origin, CA: "/etc/ca: x.pem"}} {
		must(t, list.Save(a))
		if again, err := list.Load(a.Name); err != nil || again != a {
			t.Errorf("%v comes back as %v: %v", a, again, err)
		}
	}
	if names := list.Names(); !slices.Equal(names, []string{"fellside", "hills"}) {
		t.Error(names)
	}
	for text, want := range map[string]string{
		"url: http://cloud.example\n": ":1:", "ca: x\n": "the key url is missing",
		"url: https://a.example\nname: x\n":                ":2: name is not a key",
		"url: https://a.example\nurl: https://b.example\n": ":2:",
		"- x\n": "is no map", "url: [a]\n": ":1:", "url: &a https://a.example\n": ":1:", "": "is no map",
		"url: https://a.example\nurl\n": "is no map",
	} {
		must(t, os.WriteFile(filepath.Join(dir, "wrong.yaml"), []byte(text), 0o600))
		if _, err := list.Load("wrong"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	for _, name := range []string{"no", "../fellside", "", ".x"} {
		if _, err := list.Load(name); !errors.Is(err, ErrNoAccount) {
			t.Errorf("%q: %v", name, err)
		}
	}
	must(t, os.Chmod(filepath.Join(dir, "fellside.yaml"), 0o666))
	if _, err := list.Load("fellside"); err == nil {
		t.Error("a file that others may write is read")
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
