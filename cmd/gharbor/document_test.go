//go:build unix

package main

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// documents starts a practice server of documents.
func documents(t *testing.T, config standin.Config) *standin.Server {
	t.Helper()
	config.Engine = "mongodb"
	if config.Accounts == nil {
		config.Accounts = map[string]string{"warden_app": canary, "keeper": canary}
	}
	config.Superuser = "keeper"
	s, err := standin.Start(config)
	must(t, err)
	t.Cleanup(s.Close)
	return s
}

// documents starts a practice server of documents, and saves the profile p of it.
func (w *world) documents(config standin.Config) (p string, s *standin.Server) {
	w.Helper()
	s = documents(w.T, config)
	return w.save("p", "mongodb", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()), "--database", "bunkhouse",
		"--user", "warden_app", "--secret", "env:PW"), s
}

// TestDocumentSituations has each finding of a server of documents.
func TestDocumentSituations(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary, "BAD=not-it")
	refused := func(number string) standin.Config {
		return standin.Config{Faults: standin.Faults{Refusal: number}}
	}
	short := []string{"--timeout", "500ms"}
	for _, c := range []struct {
		name   string
		config standin.Config
		args   []string
		code   string
		exit   int
		says   string
	}{
		{"good", standin.Config{}, nil, "", 0, "SCRAM-SHA-256"},
		{"the older method", standin.Config{Login: "SCRAM-SHA-1"}, nil, "", 0, "SCRAM-SHA-1"},
		{"the older method by choice", standin.Config{}, []string{"--login-methods", "SCRAM-SHA-1"}, "", 0, "SCRAM-SHA-1"},
		{"a method that is not listed", standin.Config{Login: "SCRAM-SHA-1"},
			[]string{"--login-methods", "SCRAM-SHA-256"}, "login.method-not-supported", 6, "SCRAM-SHA-256"},
		{"a database that is not there", standin.Config{}, []string{"--database", "bunkhaus"}, "", 0,
			"bunkhaus is not there yet: the server makes it at the first write; there are bunkhouse"},
		{"the superuser", standin.Config{}, []string{"--user", "keeper", "--expect", "superuser=true"}, "", 0,
			"keeper@admin"},
		{"a replica", standin.Config{Replica: true}, []string{"--expect", "read-only=true"}, "", 0,
			"replica of the set fellside"},
		{"a primary is no replica", standin.Config{}, []string{"--expect", "read-only=true"}, "expect.not-met", 8, ""},
		{"a wrong password", standin.Config{}, []string{"--secret", "env:BAD"}, "login.refused", 6,
			"was looked for in the database admin."},
		{"no such account", standin.Config{}, []string{"--user", "nobody_here"}, "login.refused", 6,
			"was looked for in the database bunkhouse and in admin."},
		{"another database of accounts", standin.Config{}, []string{"--option", "auth=bunkhouse"},
			"login.another-database", 6, "--option auth=admin"},
		{"no such account in another database", standin.Config{},
			[]string{"--option", "auth=bunkhouse", "--user", "nobody_here"}, "login.refused", 6,
			"was looked for in the database bunkhouse."},
		{"its set", standin.Config{}, []string{"--option", "set=fellside"}, "", 0, "of the set fellside"},
		{"another set", standin.Config{}, []string{"--option", "set=uplands"}, "greeting.another-set", 5,
			"is a server of the set fellside, and the set must be uplands."},
		{"nobody logs in", standin.Config{}, []string{"--secret", "none"}, "login.password-wanted", 6, ""},
		{"nobody has to log in", standin.Config{Faults: standin.Faults{AskNothing: true}},
			[]string{"--secret", "none"}, "", 0, "nobody logged in"},
		{"the password itself is wanted", standin.Config{Faults: standin.Faults{AskClear: true}},
			[]string{"--option", "auth=$external"}, "", 0, "PLAIN"},
		{"a server that is too old", standin.Config{Faults: standin.Faults{TooOld: true}}, nil,
			"greeting.too-old", 5, "its protocol has the version 5"},
		{"no proof", standin.Config{Faults: standin.Faults{Unproven: "no proof"}}, nil, "login.server-unproven", 6, ""},
		{"a wrong proof", standin.Config{Faults: standin.Faults{Unproven: "wrong proof"}}, nil,
			"login.server-unproven", 6, ""},
		{"too many rounds", standin.Config{Faults: standin.Faults{Rounds: 100_000_000}},
			[]string{"--timeout", "1s"}, "login.too-many-rounds", 6, "100000000 rounds"},
		{"full", standin.Config{Faults: standin.Faults{TooMany: true}}, nil, "greeting.closed", 5, ""},
		{"shutting down", refused("91"), nil, "database.shutting-down", 7, ""},
		{"a method that it has not", refused("334"), nil, "login.method-not-supported", 6, ""},
		{"a number that nobody knows", refused("4711"), nil, "login.unknown", 6, "4711"},
		{"a silent server", standin.Config{Faults: standin.Faults{Stall: true}}, short, "greeting.silent", 5, ""},
		{"a silent login", standin.Config{Faults: standin.Faults{StallLogin: true}}, short, "login.silent", 6, ""},
		{"a silent command", standin.Config{Faults: standin.Faults{StallQuery: true}}, short, "query.silent", 7, ""},
		{"an end at a command", standin.Config{Faults: standin.Faults{HangupQuery: true}}, nil, "query.closed", 7, ""},
		{"another protocol", standin.Config{Faults: standin.Faults{Greeting: []byte("SSH-2.0-practice\r\n")}},
			nil, "greeting.not-a-database", 5, "SSH"},
	} {
		s := documents(t, c.config)
		p := w.save("p", "mongodb", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
			"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:PW")
		r := w.report(append([]string{p}, c.args...)...)
		if string(r.Code()) != c.code || r.Exit != c.exit {
			t.Errorf("%s: %s, exit %d, instead of %s: %+v", c.name, r.Code(), r.Exit, c.code, r.Finding)
		}
		text := w.run(append([]string{"test", p}, c.args...)...)
		flat := strings.Join(strings.Fields(text.out), " ")
		if !strings.Contains(flat, c.says) || strings.Contains(text.out+text.err, canary) || text.took > 6*time.Second {
			t.Errorf("%s: %q is not said, or too late (%s):\n%s%s", c.name, c.says, text.took, text.out, text.err)
		}
		for _, raw := range []string{"EOF", "i/o timeout", "context deadline", "bson"} {
			if strings.Contains(flat, raw) {
				t.Errorf("%s: the raw words %q stand in\n%s", c.name, raw, text.out)
			}
		}
	}
}

// TestDocumentLegs walks up to each leg, with and without TLS, which comes before the greeting.
func TestDocumentLegs(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	authority, config := encrypting(t, "127.0.0.1")
	ca := w.write("ca.pem", string(authority.PEM))
	plain, encrypted := documents(t, standin.Config{}), documents(t, standin.Config{TLS: config})
	for _, c := range []struct {
		server *standin.Server
		args   []string
		order  []string
	}{
		{plain, []string{"--tls", "off"}, []string{"port", "greeting", "login", "database", "query"}},
		{encrypted, []string{"--tls", "verify", "--tls-ca", ca},
			[]string{"port", "tls", "greeting", "login", "database", "query"}},
	} {
		to := append([]string{fmt.Sprintf("mongodb://warden_app@127.0.0.1:%d/bunkhouse", c.server.Port()),
			"--secret", "env:PW"}, c.args...)
		for i, until := range append(c.order, "") {
			args := to
			if until != "" {
				args = append(slices.Clone(to), "--until", until)
			}
			r := w.report(args...)
			var legs []string
			for _, leg := range r.Legs {
				legs = append(legs, leg.Name)
			}
			if got, want := legs[slices.Index(legs, "port"):],
				c.order[:min(i+1, len(c.order))]; !slices.Equal(got, want) || !r.OK {
				t.Errorf("%v: %v instead of %v: %+v", args, got, want, r.Finding)
			}
		}
		if r := w.report(to...); r.Server.Encrypted != (c.server == encrypted) {
			t.Errorf("encrypted: %v", r.Server.Encrypted)
		}
	}
	to := fmt.Sprintf("mongodb://warden_app@127.0.0.1:%d/bunkhouse", plain.Port())
	has(t, fmt.Sprint(w.fails("tls.closed", to, "--secret", "env:PW", "--tls", "encrypt").Try), "--tls off")
	to = fmt.Sprintf("mongodb://warden_app@127.0.0.1:%d/bunkhouse", encrypted.Port())
	has(t, fmt.Sprint(w.fails("greeting.closed", to, "--secret", "env:PW", "--tls", "off").Try), "--tls verify")
	speaks := documents(t, standin.Config{Faults: standin.Faults{Greeting: []byte("+OK practice\r\n")}})
	w.fails("tls.not-offered", fmt.Sprintf("mongodb://warden_app@127.0.0.1:%d/bunkhouse", speaks.Port()),
		"--secret", "env:PW", "--tls", "encrypt")
}

// TestDocumentPasswords logs in with each awkward password, from each source that is a text, by
// each method that proves it.
func TestDocumentPasswords(t *testing.T) {
	t.Parallel()
	for _, method := range []string{"SCRAM-SHA-256", "SCRAM-SHA-1", "PLAIN"} {
		for name, text := range kinds {
			w := newWorld(t, "AWKWARD="+text)
			config := standin.Config{Login: method, Accounts: map[string]string{"warden_app": text}}
			if method == "PLAIN" {
				config = standin.Config{Accounts: config.Accounts, Faults: standin.Faults{AskClear: true}}
			}
			p, s := w.documents(config)
			in := fmt.Sprintf("mongodb://warden_app:%s@%s/bunkhouse",
				strings.ReplaceAll(url.QueryEscape(text), "+", "%20"), s.Address())
			more := []string{"--login-methods", method}
			if method == "PLAIN" {
				more = append(more, "--option", "auth=$external")
			}
			for from, args := range map[string][]string{
				"a variable": {p, "--secret", "env:AWKWARD"},
				"a file":     {p, "--secret", "file:" + w.write("pw", text)}, "a string": {"-"},
			} {
				w.stdin = in
				if r := w.report(append(args, more...)...); !r.OK || r.Server.Login != method {
					t.Errorf("%s, %s, from %s: %s", method, name, from, r.Code())
				}
			}
		}
	}
}

// TestDocumentCertificate logs in by a client certificate, and has one of another account refused.
func TestDocumentCertificate(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	authority, config := encrypting(t, "127.0.0.1")
	config.ClientAuth, config.ClientCAs = tls.RequireAndVerifyClientCert, x509.NewCertPool()
	config.ClientCAs.AppendCertsFromPEM(authority.PEM)
	s := documents(t, standin.Config{TLS: config})
	ca := w.write("ca.pem", string(authority.PEM))
	for user, code := range map[string]string{"warden_app": "", "nobody_here": "login.refused"} {
		cert, key, err := authority.Issue(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), user)
		must(t, err)
		to := []string{fmt.Sprintf("mongodb://%s@127.0.0.1:%d/bunkhouse", user, s.Port()), "--secret", "none",
			"--tls", "verify", "--tls-ca", ca, "--tls-cert", w.write(user+".pem", string(cert)),
			"--tls-key", w.write(user+".key", string(key))}
		r := w.report(to...)
		if string(r.Code()) != code || code == "" && r.Server.Login != "MONGODB-X509" {
			t.Errorf("%s: %s %+v", user, r.Code(), r.Finding)
		}
	}
}

// TestDocumentNotYet has what cannot be done with such a server yet: it is said, and nothing is
// sent.
func TestDocumentNotYet(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	p, s := w.documents(standin.Config{})
	rows := w.write("rows.csv", "name\nFold\n")
	for _, args := range [][]string{{"talk", p}, {"load", p, "hut", rows}} {
		r := w.run(args...)
		if said := r.out + r.err; r.code == 0 || !strings.Contains(said, "MongoDB") && args[0] != "talk" ||
			strings.Contains(said, canary) {
			t.Errorf("%v: exit %d: %s%s", args, r.code, r.out, r.err)
		}
	}
	has(t, w.must(0, "find", "--only", "listening", "--every-port", "--json").out,
		fmt.Sprintf(`"port": "%d"`, s.Port()), "mongodb")
	w.must(0, "alias", "add", "snow", "--engine", "mongodb", "--address", s.Address(),
		"--address", documents(t, standin.Config{Replica: true}).Address(), "--wants", "replica", "--tls", "off")
	has(t, w.must(0, "alias", "probe", "snow", "--repeat", "1").out, "answers", "1 of 1")
	has(t, w.must(0, "test", w.save("q", "mongodb", "--alias", "snow", "--database", "bunkhouse",
		"--user", "warden_app", "--secret", "env:PW")).out, "replica of the set fellside")
}

// TestDocumentInAContainer finds a container of a well-known image, and the account that its
// variables make.
func TestDocumentInAContainer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := practiceEngine(t, w)
	s := documents(t, standin.Config{Accounts: map[string]string{"root": canary}})
	e.Put(standin.Contained{Name: "snowdb", Image: "mongo:7",
		Env: []string{"MONGO_INITDB_ROOT_USERNAME=root", "MONGO_INITDB_ROOT_PASSWORD=" + canary,
			"MONGO_INITDB_DATABASE=bunkhouse"},
		Published: map[int][]string{27017: {s.Address()}}, Streams: map[int]string{27017: s.Address()}})
	const name = "containers/snowdb"
	r := w.must(0, "find", "--only", "containers", "--add", name)
	shown := w.must(0, "show", name).out
	has(t, shown, "mongodb", "root", "bunkhouse", "container")
	has(t, w.must(0, "test", name).out, "bunkhouse is open", "root@admin")
	w.must(0, "test", name, "--container", "{name: snowdb, reach: exec}")
	if strings.Contains(r.out+r.err+shown, canary) {
		t.Error("the password is shown")
	}
}

// TestDocumentSurvey lists databases and collections, of which a server gives a few at a time.
func TestDocumentSurvey(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for _, replica := range []bool{false, true} {
		p, _ := w.documents(standin.Config{Databases: []string{"bunkhouse", "snow"}, Replica: replica})
		r := w.must(0, "survey", p, "databases")
		has(t, r.out, "bunkhouse  72 KiB  yes", "snow       32 KiB  no")
		has(t, w.must(0, "survey", p, "users").err, "is not asked for yet")
		has(t, r.out+r.err, "readAnyDatabase")
		if strings.Contains(r.out, "admin") && !strings.Contains(r.out, `"db": "admin"`) ||
			strings.Contains(r.out+r.err, canary) {
			t.Error(r.out)
		}
		has(t, w.must(0, "survey", p, "databases", "--system", "--user", "keeper").out, "admin", "local")
		r = w.must(0, "survey", p, "tables", "--json")
		for _, of := range []string{"bunkhouse", "snow"} {
			for _, table := range []string{"hut", "booking", "snow_depth"} {
				has(t, strings.Join(strings.Fields(r.out), ""), fmt.Sprintf(`[%q,%q,"collection"]`, of, table))
			}
		}
		has(t, w.must(0, "survey", p).out, "databases", "not known here")
		w.must(3, "survey", p, "table", "nothing")
	}
}
