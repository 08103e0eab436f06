package credentials

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

const canary = "canary-5b2f"

// awkward are passwords of every kind that a file must be able to hold.
var awkward = []string{
	"", "plain words may have spaces", " leading", "trailing ", "\ttab", `quote " inside`, `"quoted"`,
	`back\slash`, "a#b", "#", "a=b", "a:b", ": ", "a@b", "'",
	"Hüttenwart", "小屋の鍵", "zero\u200bwidth", "new\nline", "\r\n", "\x7f", "\xff\xfe", "without password",
	"env:X", "\U0001F511 key", `\x41`, "at x", "a",
}

func TestEveryPasswordFitsInACredentialFile(t *testing.T) {
	var data []byte
	for i, text := range awkward {
		dest := target.Target{User: fmt.Sprint("user ", i, ":"),
			Endpoint: target.Endpoint{Host: "db.fellside.example", Port: 5432}, TLS: "verify"}
		if i%3 == 0 {
			dest.Endpoint.Database = "bunk house"
		}
		changed, was, err := Add(data, "f", dest, secret.New(text))
		if err != nil || was {
			t.Fatalf("password %d is not taken: %v", i, err)
		}
		if again, was, err := Add(changed, "f", dest, secret.New(text)); err != nil || !was || !bytes.Equal(again, changed) {
			t.Errorf("password %d, put in twice: %v", i, err)
		}
		data = changed
		got, err := MatchIn(data, "f",
			target.Target{User: dest.User,
				Endpoint: target.Endpoint{Host: "db.fellside.example", Port: 5432, Database: "bunk house"}, TLS: "verify"})
		if err != nil || !got.Secret.Given() || got.Secret.Reveal() != text {
			t.Errorf("password %d does not come back: %v", i, err)
		}
	}
	none := target.Target{User: "none", Endpoint: target.Endpoint{Socket: "/run/s"}, TLS: "off"}
	data, _, err := Add(data, "f", none, secret.Secret{})
	if got, e := MatchIn(data, "f", none); err != nil || e != nil || got.Secret.Given() {
		t.Errorf("no password: %v %v", err, e)
	}
	if list, err := Parse(data, "f"); err != nil || len(list) != len(awkward)+1 {
		t.Errorf("%d entries: %v", len(list), err)
	}
	if blocks := bytes.Count(data, []byte("\nat ")); blocks != 2 {
		t.Errorf("%d blocks for two places", blocks)
	}
}

func TestMostSpecificEntryServes(t *testing.T) {
	file := Header + `
# a comment
at *.fellside.example
  reader: by suffix
at *.huts.fellside.example tls encrypt
  reader: by longer suffix
at db.huts.fellside.example
  reader: by host
  reader on bunkhouse: by host and database
at db.huts.fellside.example:5432
  reader: by port
at DB.Huts.Fellside.Example:6000
  "reader": "by port too"
at [::1]:5432
  reader: v6
at /run/huts/s
  reader: socket
  guest without password
`
	at := func(host string, port int, more ...string) target.Target {
		w := target.Target{User: "reader", Endpoint: target.Endpoint{Host: host, Port: port}, TLS: "verify"}
		for i, each := range more {
			*[]*string{&w.Database, &w.TLS, &w.User}[i] = each
		}
		return w
	}
	for _, c := range []struct {
		dest       target.Target
		want, code string
		says       []string
	}{
		{at("a.fellside.example", 1), "by suffix", "", nil},
		{at("a.huts.fellside.example", 1), "by longer suffix", "", nil},
		{at("a.huts.fellside.example", 1, "", "encrypt"), "by longer suffix", "", nil},
		{at("a.fellside.example", 1, "", "encrypt"), "", "secret.bound-elsewhere",
			[]string{"identity was checked", "unchecked"}},
		{at("db.huts.fellside.example", 7), "by host", "", nil},
		{at("db.huts.fellside.example", 7, "bunkhouse"), "by host and database", "", nil},
		{at("db.huts.fellside.example", 5432, "bunkhouse"), "by port", "", nil},
		{at("db.huts.fellside.example", 6000), "by port too", "", nil},
		{at("fellside.example", 1), "", "secret.bound-elsewhere", []string{"goes to fellside.example:1"}},
		{at("evilfellside.example", 1), "", "secret.bound-elsewhere", nil},
		{at("db.huts.fellside.example", 5432, "", "off"), "", "secret.bound-elsewhere", []string{"without encryption"}},
		{at("db.huts.fellside.example", 5432, "", "verify", "steward"), "", "secret.bound-elsewhere",
			[]string{"reader", "steward"}},
		{at("elsewhere", 1, "", "verify", "nobody"), "", "secret.not-stored", []string{"nobody at elsewhere:1"}},
		{at("::1", 5432, "", "off"), "v6", "", nil},
		{at("localhost", 5432, "", "off"), "", "secret.bound-elsewhere", []string{"localhost:5432"}},
		{target.Target{User: "reader", Endpoint: target.Endpoint{Socket: "/run/huts/s", Database: "x"},
			TLS: "off"}, "socket", "", nil},
		{target.Target{User: "reader", Endpoint: target.Endpoint{Socket: "/run/huts/t"}, TLS: "off"}, "",
			"secret.bound-elsewhere", []string{"/run/huts/t"}},
		{target.Target{User: "reader", Endpoint: target.Endpoint{Host: "a.fellside.example", Port: 1},
			Hops: []string{"gate"}, TLS: "verify"}, "", "secret.bound-elsewhere", []string{"through gate"}},
	} {
		got, err := MatchIn([]byte(file), "f", c.dest)
		var p *finding.Problem
		switch {
		case c.code == "" && (err != nil || got.Secret.Reveal() != c.want):
			t.Errorf("%+v: %v", c.dest, err)
		case c.code != "" && (!errors.As(err, &p) || string(p.Code) != c.code):
			t.Errorf("%+v: %v instead of %s", c.dest, err, c.code)
		}
		for _, part := range c.says {
			if p == nil || !strings.Contains(p.Facts[finding.FactDetail], part) {
				t.Errorf("%+v: %v does not say %q", c.dest, err, part)
			}
		}
	}
	if got, err := MatchIn([]byte(file), "f",
		target.Target{User: "guest", Endpoint: target.Endpoint{Socket: "/run/huts/s"},
			TLS: "off"}); err != nil || got.Secret.Given() {
		t.Errorf("an account without password: %v", err)
	}
	var p *finding.Problem
	if _, err := MatchIn([]byte(file+"at /run/huts/s\n  reader: again\n"), "f",
		target.Target{User: "reader", Endpoint: target.Endpoint{Socket: "/run/huts/s"},
			TLS: "off"}); !errors.As(err, &p) || p.Code != "secret.credentials-tie" ||
		!strings.Contains(p.Facts[finding.FactDetail], "17 and 20") {
		t.Errorf("two that are equally specific: %v", err)
	}
	entries, troubles, err := Check([]byte(file+"at empty\nat /run/huts/s\n  reader: again\nat last"), "f")
	if err != nil || entries != 10 ||
		fmt.Sprint(troubles) != "[{19 no entry stands below this endpoint} {21 the same user at the same "+
			"endpoint is in line 17 already; neither can serve while both are there} {22 no entry stands below this endpoint}]" {
		t.Errorf("%d %v %v", entries, troubles, err)
	}
}

func TestBrokenCredentialFiles(t *testing.T) {
	for _, c := range []struct{ text, says string }{
		{"", ":1: the file is empty"},
		{"at x\n", ":1: this is not the first line"},
		{"\xef\xbb\xbf" + Header, ":1:"},
		{"# gentle-harbor credentials 2\n", ":1:"},
		{Header + "\n  reader: x\n", ":2: an entry belongs to an endpoint"},
		{Header + "\nreader: " + canary, `:2: a line without a space`},
		{Header + "\nat\n", ":2: an endpoint is missing"},
		{Header + "\nat *\n", ":2: a pattern ends in"},
		{Header + "\nat *.example\n", ":2: a pattern ends in"},
		{Header + "\nat db:99999\n", ":2: a port"},
		{Header + "\nat db/bunkhouse\n", ":2: a database is named in the entry"},
		{Header + "\nat db tls on\n", ":2: behind the endpoint"},
		{Header + "\nat db " + canary + "\n", ":2: behind the endpoint"},
		{Header + "\nat db\n  reader " + canary + "\n", `:3: an entry is`},
		{Header + "\nat db\n  reader:" + canary + "\n", `:3: an entry is`},
		{Header + "\nat db\n  reader:  " + canary + "\n", ":3: there is more than one space"},
		{Header + "\nat db\n  reader: " + canary + " \n", ":3: the line ends in a space"},
		{Header + "\nat db\n  reader: " + canary + " # note\n", ":3: a # makes it unclear"},
		{Header + "\nat db\n  reader: \n", ":3:"},
		{Header + "\nat db\n  reader: \"" + canary + "\n", ":3: the closing quote is missing"},
		{Header + "\nat db\n  reader: \"" + canary + "\" x\n", ":3: nothing may follow"},
		{Header + "\nat db\n  reader: \"" + canary + "\\q\"\n", ":3: an escape is not known"},
		{Header + "\nat db\n  reader: \"\\x00" + canary + "\"\n", ":3: has a zero byte"},
		{Header + "\nat db\n  reader: " + canary + "\x01\n", ":3: there is a character"},
		{Header + "\nat db\n  reader: " + canary + "\xff\n", ":3: the password is not UTF-8"},
		{Header + "\nat db\n  reader: " + canary + "\u200b\n", ":3: there is a character"},
		{Header + "\nat db\n  : " + canary + "\n", ":3: a name is missing"},
		{Header + "\nat db\n  reader: " + strings.Repeat("x", secret.MaxSize) + "\n", ":3: the line is longer"},
	} {
		for name, read := range map[string]func() error{
			"parse": func() error { _, err := Parse([]byte(c.text), "f"); return err },
			"match": func() error {
				_, err := MatchIn([]byte(c.text), "f", target.Target{User: "u", Endpoint: target.Endpoint{Host: "h"}, TLS: "off"})
				return err
			},
			"add": func() error {
				if c.text == "" {
					return &finding.Problem{Code: "secret.credentials-broken",
						Facts: finding.Facts{finding.FactDetail: "f:1: the file is empty"}}
				}
				_, _, err := Add([]byte(c.text), "f",
					target.Target{User: "u", Endpoint: target.Endpoint{Host: "h"}, TLS: "verify"}, secret.New("x"))
				return err
			},
		} {
			err := read()
			var p *finding.Problem
			if !errors.As(err, &p) || p.Code != "secret.credentials-broken" ||
				!strings.Contains(p.Facts[finding.FactDetail], "f"+c.says) {
				t.Errorf("%s %q: %v", name, strings.ReplaceAll(c.text, canary, "CANARY"), err)
			}
			if strings.Contains(fmt.Sprint(err), canary) {
				t.Errorf("%s: the message for %q shows the password", name, c.says)
			}
		}
	}
}

func TestSplicingKeepsTheRest(t *testing.T) {
	file := strings.ReplaceAll(Header+`

# the bookings
at db.fellside.example:5432
  # the warden's
  warden_app: one

	reader:	two
at other
  reader: three`, "\n", "\r\n")
	file = strings.Replace(file, "\treader:\t", "\treader: ", 1)
	dest := func(user, host string, port int) target.Target {
		return target.Target{User: user, Endpoint: target.Endpoint{Host: host, Port: port}, TLS: "verify"}
	}
	added, was, err := Add([]byte(file), "f", dest("warden_app", "db.fellside.example", 5432), secret.New("new #1"))
	want := strings.Replace(file, "warden_app: one", `warden_app: "new #1"`, 1) + "\r\n"
	if err != nil || !was || string(added) != want {
		t.Errorf("changed: %v\n%q\n%q", err, added, want)
	}
	added, was, err = Add(added, "f", dest("guest", "other", 0), secret.New("four"))
	if want = want + "  guest: four\r\n"; err != nil || was || string(added) != want {
		t.Errorf("added: %v\n%q\n%q", err, added, want)
	}
	weaker := dest("guest", "other", 0)
	weaker.TLS = "off"
	more, _, err := Add(added, "f", weaker, secret.New("five"))
	if err != nil || string(more) != want+"at other tls off\r\n  guest: five\r\n" {
		t.Errorf("a weaker block: %v\n%q", err, more)
	}
	gone, n, err := Remove(added, "f", dest("reader", "other", 0))
	if err != nil || n != 1 || string(gone) != strings.Replace(want, "  reader: three\r\n", "", 1) {
		t.Errorf("removed %d: %v\n%q", n, err, gone)
	}
	gone, n, err = Remove(gone, "f", dest("guest", "other", 0))
	if err != nil || n != 1 || strings.Contains(string(gone), "at other") ||
		!strings.Contains(string(gone), "# the warden's") {
		t.Errorf("the last of a block: %v\n%q", err, gone)
	}
	if same, n, err := Remove(gone, "f", dest("nobody", "other", 0)); err != nil || n != 0 || !bytes.Equal(same, gone) {
		t.Errorf("nothing to remove: %d %v", n, err)
	}
	hop := dest("reader", "other", 0)
	hop.Hops = []string{"gate"}
	if _, _, err := Add(nil, "f", hop, secret.New("x")); err == nil {
		t.Error("a file takes what it cannot bind")
	}
}

func FuzzCredentials(f *testing.F) {
	f.Add([]byte(Header+"\nat db.fellside.example:5432\n  warden_app on bunkhouse: plain words\n  \"a b\": "+
		"\"\\u00e9\\xff\"\n  x without password\n"),
		"db.fellside.example", "warden_app", "secret")
	f.Add([]byte(Header+"\r\nat [::1]:1 tls off\r\n\tu: v"), "::1", "u", "\xff \"")
	f.Fuzz(func(t *testing.T, data []byte, host, user, text string) {
		list, err := Parse(data, "f")
		dest := target.Target{User: user, Endpoint: target.Endpoint{Host: host, Port: 5432}, TLS: "verify"}
		if _, e := MatchIn(data, "f", dest); (err == nil) != (e == nil) && err != nil {
			t.Fatalf("a file that cannot be read is matched: %v", err)
		}
		if at, e := target.ParseEndpoint(host); err != nil || e != nil || at.Host != host || at.Port != 0 ||
			at.Database != "" || !target.IsVisible(user) || user == "" || secret.Usable(text) != nil {
			return
		}
		changed, was, err := Add(data, "f", dest, secret.New(text))
		if err != nil {
			if len(text)+len(user) < secret.MaxSize/4 {
				t.Fatalf("a file that can be read takes no entry: %v", err)
			}
			return
		}
		again, err := Parse(changed, "f")
		if err != nil || len(again) != len(list)+map[bool]int{true: 0, false: 1}[was] {
			t.Fatalf("%d entries become %d: %v", len(list), len(again), err)
		}
		gone, n, err := Remove(changed, "f", dest)
		if left, e := Parse(gone, "f"); err != nil || e != nil || n < 1 || len(left) != len(again)-n {
			t.Fatalf("removing %d of %d leaves %d: %v %v", n, len(again), len(left), err, e)
		}
	})
}

// TestPartsAreTheWhole matches in a large file, which is read in parts, as in a small one.
func TestPartsAreTheWhole(t *testing.T) {
	data := many(30_000)
	dest := func(n int) target.Target {
		return target.Target{User: "warden_app",
			Endpoint: target.Endpoint{Host: fmt.Sprintf("db%d.fellside.example", n), Port: 5432,
				Database: "bunkhouse"}, TLS: "verify"}
	}
	if parts := split(string(data), 4); len(parts) != 4 {
		t.Errorf("%d parts of %d KB", len(parts), len(data)>>10)
	}
	for _, n := range []int{0, 1, 2500, 5000, 7499, 9999} {
		got, err := MatchIn(data, "f", dest(n))
		if err != nil || got.Line != 3+3*n || got.Secret.Reveal() != fmt.Sprint("password ", n) {
			t.Errorf("%d: line %d, %v", n, got.Line, err)
		}
		var p *finding.Problem
		lines := bytes.SplitAfter(data, []byte("\n"))
		twice := append(bytes.Clone(data), bytes.Join(lines[1+3*n:4+3*n], nil)...)
		if _, err := MatchIn(twice, "f", dest(n)); !errors.As(err, &p) || p.Code != "secret.credentials-tie" {
			t.Errorf("%d, at both ends: %v", n, err)
		}
		broken := bytes.Replace(data, []byte(fmt.Sprintf(": password %d\n", n)), []byte(": pass#word\n"), 1)
		if _, err := MatchIn(broken, "f", dest(1)); !errors.As(err, &p) ||
			!strings.Contains(p.Facts[finding.FactDetail], fmt.Sprintf("f:%d: a #", 3+3*n)) {
			t.Errorf("%d, broken: %v", n, err)
		}
	}
	var p *finding.Problem
	if _, err := MatchIn(data, "f", dest(10_000)); !errors.As(err, &p) || p.Code != "secret.bound-elsewhere" {
		t.Error(err)
	}
}

// BenchmarkMatch finds an entry among 100,000 lines.
func BenchmarkMatch(b *testing.B) {
	path := filepath.Join(b.TempDir(), "credentials")
	if err := os.WriteFile(path, many(100_000), 0o600); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := Match(path, target.Target{User: "warden_app",
			Endpoint: target.Endpoint{Host: "db777.fellside.example", Port: 5432}, TLS: "verify"}); err != nil {
			b.Fatal(err)
		}
	}
}

// many makes a file of so many lines, three of them to a block.
func many(lines int) []byte {
	b := bytes.NewBufferString(Header + "\n")
	for i := 0; i < lines/3; i++ {
		fmt.Fprintf(b, "at db%d.fellside.example:5432\n  warden_app on bunkhouse: password %d\n  warden_app: "+
			"\"other # %d\"\n",
			i, i, i)
	}
	return b.Bytes()
}
