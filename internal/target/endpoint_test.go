package target

import "testing"

func TestParseEndpoint(t *testing.T) {
	for text, want := range map[string]Endpoint{
		"DB.Fellside.Example:5432/bunkhouse": {Host: "db.fellside.example", Port: 5432, Database: "bunkhouse"},
		"db":                                 {Host: "db"}, "127.0.0.1:1": {Host: "127.0.0.1", Port: 1},
		"::1": {Host: "::1"}, "[::1]:5432/x": {Host: "::1", Port: 5432, Database: "x"},
		"[::1]": {Host: "::1"}, "/run/s": {Socket: "/run/s"},
		"*.fellside.example": {Host: "*.fellside.example"}, "a_b-c.d.": {Host: "a_b-c.d."},
	} {
		got, err := ParseEndpoint(text)
		if err != nil || got != want {
			t.Errorf("%s: %+v %v", text, got, err)
		}
		if again, err := ParseEndpoint(got.String()); err != nil || again != got {
			t.Errorf("%s is written %s", text, got)
		}
	}
	for _, text := range []string{"", ":1", "db:", "db:0", "db:01", "db:x", "db/", "a b", "a..b", "*", "*.",
		"*.example", "a.*.b", "[::1", "[::1]x", "[x]:1", "a@b", "user:pass@host:1", "http://x", "/a\x00", "é"} {
		if got, err := ParseEndpoint(text); err == nil {
			t.Errorf("%q is taken for %+v", text, got)
		}
	}
}

func FuzzParseEndpoint(f *testing.F) {
	for _, seed := range []string{"db.fellside.example:5432/bunkhouse", "[::1]:5432", "::1", "/run/s",
		"*.fellside.example", "LOCALHOST:1", "a/b/c", "[", "*",
		"cloud:srv-1@cloud.fellside.example:8443/bunkhouse", "cloud:@", "container:db@huts:1/d"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := ParseEndpoint(text)
		if err != nil {
			return
		}
		if again, err := ParseEndpoint(e.String()); err != nil || again != e {
			t.Errorf("%q is %+v, and comes back as %+v: %v", text, e, again, err)
		}
	})
}
