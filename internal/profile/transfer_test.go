package profile

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

// arbitrary makes profiles that use every corner of what a form can carry.
type arbitrary struct{ *rand.Rand }

func (r arbitrary) pick(words ...string) string { return words[r.IntN(len(words))] }

func (r arbitrary) text() string {
	const letters = "abcXYZ019 _-.:/?#[]@!$&'()*+,;=%\"\\^`{|}~<>äß日€"
	all := []rune(letters)
	text := make([]rune, 1+r.IntN(12))
	for i := range text {
		text[i] = all[r.IntN(len(all))]
	}
	if s := strings.TrimSpace(string(text)); s != "" {
		return s
	}
	return "x"
}

func (r arbitrary) path() string {
	return "/" + strings.NewReplacer("/", "", "\\", "", "~", "", ".", "").Replace(r.text()) + "x/y" +
		strings.NewReplacer("/", "", ".", "").Replace(r.text())
}

func (r arbitrary) layer() Layer {
	l := Layer{}
	put := func(name, text string) {
		if s, _ := Find(name); s.Check(text) == nil {
			l[name] = Value{Text: text, Origin: Origin{Layer: "profile"}}
		}
	}
	put("engine", r.pick("postgres", "mysql", "mariadb"))
	put("user", r.text())
	if r.IntN(4) == 0 {
		put("socket", r.path())
		if l["engine"].Text == "postgres" && r.IntN(2) == 0 {
			put("socket", r.path()+"/.s.PGSQL."+fmt.Sprint(1+r.IntN(65535)))
		}
	} else {
		put("host", r.pick("localhost", "db.fellside.example", "127.0.0.1", "::1", "2001:db8::7", "fe80::1%eth0"))
		put("port", fmt.Sprint(1+r.IntN(65535)))
		if put("tls.mode", r.pick("off", "encrypt", "verify")); l["tls.mode"].Text != "off" && r.IntN(2) == 0 {
			put("tls.ca", r.path())
			put("tls.cert", r.path())
			put("tls.key", r.path())
		}
	}
	if l["engine"].Text == "postgres" || r.IntN(2) == 0 {
		put("database", r.text())
	}
	if r.IntN(2) == 0 {
		put("timeout.leg", r.pick("3s", "90s"))
	}
	if l["engine"].Text == "postgres" && r.IntN(2) == 0 {
		put("role", r.text())
		put("options.application_name", r.text())
		put("options.search_path", r.text()+", "+r.text())
		put("options.work_mem", "4MB")
	}
	return l
}

// rest adds what only our own forms can carry.
func (r arbitrary) rest(l Layer, lists bool) {
	for name, text := range map[string]string{"note": r.text(), "timeout.total": "1m5s",
		"secret": r.pick("none", "ask", "env:HUT_PW", "empty")} {
		if s, _ := Find(name); r.IntN(2) == 0 && s.Check(text) == nil {
			l[name] = Value{Text: text, Origin: Origin{Layer: "profile"}}
		}
	}
	if lists && r.IntN(2) == 0 {
		l["on-open"] = ListValue([]string{"set a = '" + r.text() + "'", "x"}, Origin{Layer: "profile"})
		l["labels."+r.text()] = Value{Text: r.text()}
		l["options.search_path"] = Value{Text: r.text()}
	}
}

// same compares what two layers come to.
func same(t *testing.T, form, text string, want, got Layer) {
	t.Helper()
	a, b := Resolve(files.World{}, "", want), Resolve(files.World{}, "", got)
	for name := range a.Values {
		if v := a.Values[name]; v.Text != b.Values[name].Text || !slices.Equal(v.List, b.Values[name].List) {
			t.Fatalf("%s: %s %q comes back as %q\n%s", form, name, v.Text, b.Values[name].Text, text)
		}
	}
	if len(a.Values) != len(b.Values) {
		t.Fatalf("%s: %v comes back as %v\n%s", form, a.Values.Names(), b.Values.Names(), text)
	}
}

func TestRoundTrip(t *testing.T) {
	r := arbitrary{rand.New(rand.NewPCG(1, 2))}
	for i := range 1000 {
		password := secret.New(r.text())
		if i%7 == 0 {
			password = secret.New("")
		}
		back := func(form string, p Parsed, err error, text string, want Layer) {
			t.Helper()
			if err != nil {
				t.Fatalf("%s: %v\n%s", form, err, text)
			}
			same(t, form, text, want, p.Layer)
			if !p.Secret.Given() || p.Secret.Reveal() != password.Reveal() {
				t.Fatalf("%s: the password %q comes back as %q\n%s", form, password.Reveal(), p.Secret.Reveal(), text)
			}
		}
		l := r.layer()
		e := Resolve(files.World{}, "p", l)
		uri, _ := e.URI(password)
		p, err := ParseConnectionString(uri)
		back("uri", p, err, uri, l)

		pairs, _ := e.DatabaseVariables(password)
		text, _ := Dotenv(pairs)
		p, err = TakeIn(text, Reading{})
		back("dotenv", p, err, text, l)

		folder := t.TempDir()
		entries, _ := e.Binding(password)
		for _, entry := range entries {
			must(t, os.WriteFile(filepath.Join(folder, entry.Name), []byte(entry.Value), 0o600))
		}
		p, err = TakeBinding(folder, Reading{})
		back("binding", p, err, fmt.Sprint(entries), l)

		r.rest(l, false)
		e = Resolve(files.World{}, "p", l)
		pairs, _ = e.Variables(password)
		var lines strings.Builder
		for _, pair := range pairs {
			fmt.Fprintf(&lines, "export %s=%s\n", pair.Name, shell.Word(pair.Value))
		}
		p, err = TakeIn(lines.String(), Reading{})
		kept := maps.Clone(l)
		// a variable each has no room for them
		maps.DeleteFunc(kept, func(name string, _ Value) bool {
			return name == "secret" || strings.HasPrefix(name, "options.")
		})
		back("env", p, err, lines.String(), kept)

		r.rest(l, true)
		e = Resolve(files.World{}, "p", l)
		data, err := e.JSON(password)
		must(t, err)
		delete(l, "secret")
		p, err = TakeIn(string(data), Reading{})
		back("json", p, err, string(data), l)
	}
}

func TestTakeIn(t *testing.T) {
	for _, c := range []struct {
		name, text, variable string
		want                 map[string]string
		password             string // "-" for none
		left                 string
	}{
		{"lines", "Host: db.fellside.example\nPort: 6021\nDatabase: bunkhouse\nUsername: warden_app\nPassword: " +
			"s3cret: with, colon\nEngine: PostgreSQL\n",
			"", map[string]string{"host": "db.fellside.example", "port": "6021", "database": "bunkhouse",
				"user": "warden_app", "engine": "postgres"}, "s3cret: with, colon", ""},
		{"one line", "Server: db.fellside.example, Port: 6021, User: warden_app, Type: mysql", "",
			map[string]string{"host": "db.fellside.example", "port": "6021", "user": "warden_app",
				"engine": "mysql"}, "-", ""},
		{"a list with marks", "* Hostname: db:6021\n- DB name: `bunkhouse`\n• Driver = mariadb\nRegion: north\n",
			"", map[string]string{"host": "db", "port": "6021", "database": "bunkhouse", "engine": "mariadb"},
			"-", "Region"},
		{"a socket", "Host: /run/postgresql\nType: pgsql\n", "", map[string]string{"socket": "/run/postgresql"}, "-", ""},
		{"IPv6", "Host: [2001:db8::7]:6021", "", map[string]string{"host": "2001:db8::7", "port": "6021"}, "-", ""},
		{"a hidden password", "Host: a\nPassword: (hidden)\n", "", map[string]string{"host": "a"}, "-", ""},
		{"a string on a line", "Connection string: postgres://u:p@h:1/d\n", "",
			map[string]string{"host": "h", "port": "1", "user": "u", "database": "d"}, "p", ""},
		{"a string alone", "postgres://u@h/d?target=x", "", map[string]string{"host": "h"}, "-", "target"},
		{"jdbc", "jdbc:mysql://u@h:1/d", "", map[string]string{"engine": "mysql", "host": "h"}, "-", ""},
		{"a variable among others", "# x\nSECRET_KEY=abc\nDATABASE_URL=\"mysql://u:p%40@h:1/d\"\nLOG=debug\n",
			"", map[string]string{"engine": "mysql", "host": "h"}, "p@", ""},
		{"the variable that is named", "A_URL=postgres://u@a/d\nexport B_URL=postgres://u@b/d\n", "B_URL",
			map[string]string{"host": "b"}, "-", ""},
		{"variables of parts", "HUT_DB_HOST=db\nHUT_DB_PORT=6021\nHUT_DB_USER=u\nHUT_DB_PASSWORD='p " +
			"w'\nHUT_DB_NAME=d\nHUT_DB_CONNECTION=pgsql\n",
			"", map[string]string{"engine": "postgres", "host": "db", "port": "6021", "user": "u",
				"database": "d"}, "p w", ""},
		{"another's variables beside",
			"APP_NAME=Fellside\nAPP_URL=https://huts.fellside.example\nREDIS_URL=redis://cache:6379/0\nREDIS_HOST=cache\nREDIS_PORT=6379\nREDIS_PASSWORD=other\nMAIL_MAILER=smtp\nMAIL_DRIVER=smtp\nMAIL_HOST=mail\nMAIL_PORT=25\nMAIL_USERNAME=m\nMAIL_ENCRYPTION=tls\nDB_CONNECTION=pgsql\nDB_HOST=db\nDB_PORT=6021\nDB_DATABASE=d\nDB_USERNAME=u\nDB_PASSWORD=p\nCACHE_DRIVER=file\n",
			"", map[string]string{"engine": "postgres", "host": "db", "port": "6021", "database": "d",
				"user": "u", "tls.mode": ""}, "p", ""},
		{"a string of another beside",
			"REDIS_URL=redis://cache:6379\nDATABASE_URL=postgres://u:p@h/d\nAPP_URL=http://x\n", "",
			map[string]string{"host": "h", "database": "d"}, "p", ""},
		{"a value of several lines beside", "KEY=\"-----BEGIN\nabc\n-----END\"\nHUT_DB_HOST=h\nHUT_DB_NAME=d\n",
			"", map[string]string{"host": "h", "database": "d"}, "-", ""},
		{"one of several sets", "A_DB_HOST=a\nA_DB_USER=u\nB_DB_HOST=b\nB_DB_PORT=7\n", "B_DB_HOST",
			map[string]string{"host": "b", "port": "7", "user": ""}, "-", ""},
		{"an image's variables", "POSTGRES_USER=u\nPOSTGRES_PASSWORD=p\nPOSTGRES_DB=d\n", "",
			map[string]string{"engine": "postgres", "user": "u", "database": "d"}, "p", ""},
		{"an engine by its long name",
			"DB_ENGINE=django.db.backends.postgresql\nDB_HOST=h\nDB_SSLMODE=verify-full\n", "",
			map[string]string{"engine": "postgres", "host": "h", "tls.mode": "verify"}, "-", ""},
		{"parameters of an engine's variables",
			"PGHOST=db\nPGCONNECT_TIMEOUT=7\nPGSSLMODE=require\nPGTARGETSESSIONATTRS=read-write\nPGAPPNAME=x\n",
			"", map[string]string{"host": "db", "timeout.leg": "7s", "tls.mode": "encrypt",
				"expect.read-only": "false"}, "-", "APPNAME"},
		{"pairs with escapes", `host=db.fellside.example port=6021 dbname = 'bunk house' user=u password='it\'s \\' sslmode=require connect_timeout=4`,
			"", map[string]string{"engine": "postgres", "host": "db.fellside.example", "port": "6021",
				"database": "bunk house", "user": "u", "tls.mode": "encrypt", "timeout.leg": "4s"}, `it's \`, ""},
		{"pairs in lines", "host=db\nport=6021\nuser=u\n", "",
			map[string]string{"engine": "postgres", "host": "db", "port": "6021", "user": "u"}, "-", ""},
		{"pairs with a socket", "host=/run/x port=6021 user=u", "",
			map[string]string{"socket": "/run/x/.s.PGSQL.6021", "host": "", "port": ""}, "-", ""},
		{"parts on one line", "Host: db Port: 6021 Database: bunkhouse User Name: warden_app Password: p w", "",
			map[string]string{"host": "db", "port": "6021", "database": "bunkhouse", "user": "warden_app"}, "p w", ""},
		{"parts on one line, small", "host: db port: 6021 user: warden_app", "",
			map[string]string{"host": "db", "port": "6021", "user": "warden_app"}, "-", ""},
		{"a table's column", "Host\tdb\nPort\t6021\nDatabase\tbunkhouse\n", "",
			map[string]string{"host": "db", "port": "6021", "database": "bunkhouse"}, "-", ""},
		{"a table's rows", "Host\tPort\tUser\ndb\t6021\twarden_app", "",
			map[string]string{"host": "db", "port": "6021", "user": "warden_app"}, "-", ""},
		{"tabs between parts", "Host: db\tPort: 6021\tUser: u", "",
			map[string]string{"host": "db", "port": "6021", "user": "u"}, "-", ""},
		{"semicolons", "Server=db;Port=6021;Database=d;User Id=u;SSL Mode=Require;Password=p;w", "",
			map[string]string{"host": "db", "port": "6021", "database": "d", "user": "u",
				"tls.mode": "encrypt"}, "p;w", ""},
		{"a driver in the scheme", "postgresql+asyncpg://u:p@h/d", "",
			map[string]string{"engine": "postgres", "host": "h"}, "p", ""},
		{"a driver in a variable", "SQLALCHEMY_DATABASE_URI=mysql+pymysql://u:p@h/d?unix_socket=/run/x.sock",
			"SQLALCHEMY_DATABASE_URI", nil, "", ""},
		{"a socket in the query", "mysql+pymysql://u:p@localhost/d?unix_socket=/run/x.sock", "",
			map[string]string{"engine": "mysql", "socket": "/run/x.sock", "host": ""}, "p", ""},
		{"jdbc's parameters", "jdbc:postgresql://h:1/d?user=u&password=p&ssl=true&ApplicationName=x&currentSchema=s&loginTimeout=3",
			"", map[string]string{"user": "u", "tls.mode": "verify", "options.application_name": "x",
				"options.search_path": "s", "timeout.leg": "3s"}, "p", ""},
		{"variables of an engine", "PGHOST=db\nPGUSER=u\nPGPASSWORD=p\nPGDATABASE=d\n", "",
			map[string]string{"engine": "postgres", "host": "db", "user": "u", "database": "d"}, "p", ""},
	} {
		p, err := TakeIn(c.text, Reading{Variable: c.variable})
		if c.want == nil {
			if err == nil {
				t.Errorf("%s: it was taken", c.name)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		for name, want := range c.want {
			if got := p.Layer[name].Text; got != want {
				t.Errorf("%s: %s is %q", c.name, name, got)
			}
		}
		if p.Secret.Given() != (c.password != "-") || p.Secret.Given() && p.Secret.Reveal() != c.password {
			t.Errorf("%s: another password", c.name)
		}
		if c.left != strings.Join(p.Left, ",") {
			t.Errorf("%s: left %v", c.name, p.Left)
		}
	}
	for text, says := range map[string]string{
		"":                              "nothing to read",
		"hello there":                   "neither a connection string",
		"Colour: red\n":                 "nothing in this",
		"Host: a\nPort: canary\n":       "line 2: Port",
		"Host: postgres://u:canary@h\n": "line 1: Host",
		"A_DB_HOST=canary\nA_DB_USER=u\nB_DB_HOST=b\nB_DB_USER=v\n": "several connections (A_DB_HOST, B_DB_HOST)",
		"REDIS_URL=redis://:canary@cache\nAPP_NAME=x\n":             "others are REDIS_URL",
		"host=db service=canary":                                    "names a service",
		"A_URL=mysql://a\nB_URL=mysql://b":                          "several connections (A_URL, B_URL)",
		"A=postgres://u:can%ary@h":                                  "the variable A",
		"PASSWORD=canary\nX_HOST=a b c\n":                           "X_HOST",
		"{\"settings\": {\"prot\": 1}}":                             "did you mean port",
		"{}":                                                        `the key "settings"`,
		strings.Repeat("canary\n", 100_000):                         "more than 256 KB",
	} {
		_, err := TakeIn(text, Reading{})
		if err == nil || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "canary") {
			t.Errorf("%.40q: %v", text, err)
		}
	}
	if _, err := TakeIn("A=b", Reading{Variable: "C"}); err == nil || !strings.Contains(err.Error(), "there are A") {
		t.Errorf("%v", err)
	}
}

func TestTakeBinding(t *testing.T) {
	folder := t.TempDir()
	if _, err := TakeBinding(folder, Reading{}); err == nil || !strings.Contains(err.Error(), "no file type") {
		t.Errorf("%v", err)
	}
	for name, text := range map[string]string{"type": "postgresql\n", "host": "db\n", "port": "6021",
		"username": "u", "password": "p \n", "database": "d", "certificates": "x", "..data": "y"} {
		must(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	p, err := TakeBinding(folder, Reading{})
	if err != nil || p.Layer["engine"].Text != "postgres" || p.Layer["host"].Text != "db" ||
		p.Layer["port"].Text != "6021" || p.Secret.Reveal() != "p " || strings.Join(p.Left, ",") != "certificates" {
		t.Errorf("%v %v %v", p.Layer, p.Left, err)
	}
}

func FuzzTakeIn(f *testing.F) {
	for _, seed := range []string{"Host: a, Port: 1", "A_HOST=b\nA_PORT=1", "postgres://u:p@h",
		"{\"settings\":{\"host\":\"a\"}}", "GHARBOR_HOST=a", "x\ny: z"} {
		f.Add(seed, "")
	}
	f.Add("A=mysql://h", "A")
	f.Fuzz(func(t *testing.T, text, variable string) {
		p, err := TakeIn(text, Reading{Variable: variable})
		if err != nil {
			return
		}
		p.NoteLeft()
		for name, v := range p.Layer {
			s, known := Find(name)
			if !known || v.List == nil && v.Text != "" && s.Check(v.Text) != nil {
				t.Errorf("%q gives %s the value %q", text, name, v.Text)
			}
		}
	})
}

func FuzzTakeBinding(f *testing.F) {
	f.Add("postgresql", "db", "1", "u", "postgres://a:b@c/d")
	f.Add("mysql", "/s", "", "", "")
	f.Fuzz(func(t *testing.T, kind, host, port, user, uri string) {
		folder := t.TempDir()
		for name, text := range map[string]string{"type": kind, "host": host, "port": port, "username": user, "uri": uri} {
			must(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
		}
		p, err := TakeBinding(folder, Reading{})
		for name, v := range p.Layer {
			if s, known := Find(name); err == nil && (!known || s.Check(v.Text) != nil) {
				t.Errorf("%s is %q", name, v.Text)
			}
		}
	})
}

// TestALabelledPasswordTakesTheRestOfItsLine reads passwords with commas and with what looks like
// the next label.
func TestALabelledPasswordTakesTheRestOfItsLine(t *testing.T) {
	for text, want := range map[string]string{
		"Host: h\nPassword: ab,cd": "ab,cd", "Host: h, Password: ab,cd": "ab,cd",
		"Host: h; Port: 5; Password: ab, Port: 6": "ab, Port: 6", "Password: a User: b\nHost: h": "a User: b",
		"Database password: x, y\nServer: h": "x, y",
	} {
		p, err := TakeIn(text, Reading{})
		if err != nil || p.Secret.Reveal() != want || p.Layer["host"].Text != "h" ||
			strings.Contains(fmt.Sprint(p.Layer, p.Notes, p.Left), "cd") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestStricterParameters takes in parameters that make a connection stricter: each becomes a
// setting, or is refused by name.
func TestStricterParameters(t *testing.T) {
	for text, want := range map[string]map[string]string{
		"postgres://h/d?ssl=true":                                    {"tls.mode": "verify"},
		"postgres://h/d?ssl=true&sslmode=require":                    {"tls.mode": "encrypt"},
		"postgres://h/d?ssl=true&sslmode=disable":                    {"tls.mode": "verify"},
		"postgres://h/d?ssl=0":                                       {"tls.mode": "off"},
		"postgres://h/d?sslrootcert=system":                          {"tls.mode": "verify", "tls.ca": ""},
		"mysql://h/d?useSSL=true":                                    {"tls.mode": "verify"},
		"mysql://h/d?useSSL=true&verifyServerCertificate=false":      {"tls.mode": "encrypt"},
		"mysql://h/d?ssl_verify_identity=true":                       {"tls.mode": "verify"},
		"mysql://h/d?requireSSL=false":                               {"tls.mode": ""},
		"mysql://h/d?sslaccept=strict":                               {"tls.mode": "verify"},
		"mysql://h/d?sslMode=VERIFY_CA&trustServerCertificate=false": {"tls.mode": "verify"},
		"mysql://h/d?connectTimeout=2500":                            {"timeout.leg": "2.5s"},
		"postgres://h/d?channel_binding=require":                     {"login-methods": "scram-sha-256-plus"},
		"postgres://h/d?channel_binding=prefer":                      {"login-methods": ""},
		"postgres://h/d?require_auth=scram-sha-256,none":             {"login-methods": "scram-sha-256; scram-sha-256-plus; nothing-asked"},
		"postgres://h/d?require_auth=!password,!md5":                 {"login-methods": "scram-sha-256; scram-sha-256-plus; nothing-asked"},
		"postgres://h/d?require_auth=md5&channel_binding=require":    {"login-methods": "scram-sha-256-plus"},
		"postgres://h/d?require_auth=gss":                            nil,
		"postgres://%2Frun%2Fx/d?requirepeer=postgres":               {"socket-owner": "postgres"},
		"postgres://h/d?target_session_attrs=primary":                {"expect.read-only": "false"},
		"postgres://h/d?target_session_attrs=standby":                {"expect.read-only": "true"},
		"postgres://h/d?target_session_attrs=prefer-standby":         {"expect.read-only": ""},
		"jdbc:postgresql://h/d?targetServerType=master":              {"expect.read-only": "false"},
		"postgres://db.fellside.example/d?hostaddr=10.0.0.7": {"host": "10.0.0.7",
			"tls.server-name": "db.fellside.example"},
		"host=db hostaddr=10.0.0.7 sslmode=disable":                        {"host": "10.0.0.7", "tls.server-name": ""},
		"postgres://h/d?options=-c%20role%3Dreader%20--work_mem%3D4MB":     {"role": "reader", "options.work_mem": "4MB"},
		"postgres://h/d?default_transaction_read_only=on":                  {"options.default_transaction_read_only": "on"},
		"postgres://h/d?sslcrl=%2Fx":                                       nil,
		"postgres://h/d?ssl_min_protocol_version=TLSv1.3":                  nil,
		"postgres://h/d?gssencmode=require":                                nil,
		"postgres://h/d?gssencmode=disable":                                {"host": "h"},
		"mysql://h/d?tls-version=TLSv1.3":                                  nil,
		"mysql://h/d?allowPublicKeyRetrieval=true":                         {"host": "h"},
		"jdbc:postgresql://h/d?readOnly=true":                              nil,
		"Host: h\nEncryption: at rest\n":                                   nil,
		"Host: h\nTLS minimum: 1.3\n":                                      nil,
		"DB_HOST=h\nDB_USER=u\nDB_CHANNEL_BINDING=require\nDB_ENGINE=pg\n": {"login-methods": "scram-sha-256-plus"},
		"DB_HOST=h\nDB_USER=u\nDB_SSLCRL=/x\n":                             nil,
	} {
		p, err := TakeIn(text, Reading{})
		var stricter *Stricter
		if want == nil {
			if err == nil {
				t.Errorf("%q was taken: %v", text, p.Layer)
			}
			if errors.As(err, &stricter) {
				if q, err := TakeIn(text, Reading{Without: stricter.Names}); err != nil || len(q.Left) == 0 {
					t.Errorf("%q, without %v: %v", text, stricter.Names, err)
				}
			}
			continue
		}
		if err != nil {
			t.Errorf("%q: %v", text, err)
		}
		for name, text2 := range want {
			if got := p.Layer[name].Text; got != text2 {
				t.Errorf("%q: %s is %q", text, name, got)
			}
		}
	}
	p, err := ParseConnectionString("postgres://u@a:1,b:2/d?target_session_attrs=read-write")
	if err != nil || p.Wants != "primary" || len(p.Hosts) != 2 || p.Layer["expect.read-only"].Text != "" {
		t.Errorf("%+v %v", p, err)
	}
	if !p.Choose("b") || p.Layer["expect.read-only"].Text != "false" {
		t.Errorf("%+v", p.Layer)
	}
	p, err = ParseConnectionString("host=a,b port=1,2 user=u")
	if err != nil || strings.Join(p.Hosts, " ") != "a:1 b:2" {
		t.Errorf("%v %v", p.Hosts, err)
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
