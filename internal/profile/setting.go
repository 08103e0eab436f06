package profile

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Setting describes one thing that a profile can say. Settings is the table that reading, checking, flags,
// help and documentation are all made from.
type Setting struct {
	// Name is the key in the file; one inside a map is written "tls.mode", and a map whose keys are free
	// ends in a dot, as in "labels.".
	Name string
	// Flag is the name of the flag that sets it, without dashes.
	Flag string
	// Value names the kind of value for help, such as "HOST".
	Value string
	// About says in one line what it is.
	About string
	// Default says what holds when nobody says anything.
	Default string
	// Check tells what is wrong with a value, nil when nothing is. It must not repeat a secret.
	Check func(text string) error
	// Kind says what the value is beyond a text.
	Kind Kind
}

// Kind is a kind of value.
type Kind byte

// The kinds of value.
const (
	Plain  Kind = iota
	Path        // the path of a file; a relative one starts at the file that says it
	Listed      // a list of texts; a higher layer's replaces a lower one's
	Own         // what a profile says of itself: not for groups, flags or variables
)

// Settings lists every setting, in the order in which files, show and help have them.
var Settings = []Setting{
	{"base", "base", "NAME", "another profile to start from; mine:NAME or project:NAME names the layer", "none", checkBase, Own},
	{"engine", "engine", "ENGINE", "the kind of database server: " + strings.Join(known.Names(), ", "), "required", checkEngine, Plain},
	{"host", "host", "HOST", "the server's name or address", "localhost", checkHost, Plain},
	{"port", "port", "PORT", "the port it listens on, 1 to 65535", "the engine's", checkPort, Plain},
	{"socket", "socket", "PATH", "a Unix socket, or a folder with the server's socket in it, instead of a host", "none", checkPath, Path},
	{"database", "database", "NAME", "the database to open", firstDatabases(), checkName, Plain},
	{"user", "user", "NAME", "whom to log in as", "the wallet's only one for this place; else asked for", checkName, Plain},
	{"role", "role", "NAME", "a role to take on after logging in", "none", checkName, Plain},
	{"secret", "secret", "REFERENCE", "where the password is to be had: " + secret.Forms, "looked for in the wallets and the credential file; none on a socket; else asked for", checkSecret, Plain},
	{"tls.mode", "tls", "MODE", "encryption: off, encrypt (no identity check) or verify", "off for this machine's own addresses, else verify", oneOf("off", "encrypt", "verify"), Plain},
	{"tls.ca", "tls-ca", "FILE", "certificates (PEM) of the authorities to trust instead of the system's", "the system's", checkPath, Path},
	{"tls.cert", "tls-cert", "FILE", "a client certificate (PEM) to show", "none", checkPath, Path},
	{"tls.key", "tls-key", "FILE", "the client certificate's private key (PEM)", "none", checkPath, Path},
	{"tls.server-name", "tls-server-name", "NAME", "the name that the server's certificate must hold", "the host", checkHost, Plain},
	{"login-methods", "login-methods", "METHOD", "a login method to accept, such as scram-sha-256, or nothing-asked for a server that asks for nothing; may be repeated, and all others are refused", "all that do not show the password; those too where the server is known for sure", checkMethod, Listed},
	{"socket-owner", "socket-owner", "ACCOUNT", "the account, by name or number, whose server may be behind the socket", "root, your own, the server's usual account, or a system account that owns the folder", checkAccount, Plain},
	{"timeout.leg", "timeout", "DURATION", "the longest that one leg may take, such as 5s", "5s", checkDuration, Plain},
	{"timeout.total", "timeout-total", "DURATION", "the longest that the whole route may take", "30s", checkDuration, Plain},
	{"options.", "option", "NAME=VALUE", "a session setting from the engine's list; may be repeated", "none", checkLine, Plain},
	{"on-open", "on-open", "STATEMENT", "a statement to run when a session opens; may be repeated", "none", checkStatement, Listed},
	{"expect.server", "expect", "server=VERSIONS", "the server's version, such as >= 15 or >= 10.6 < 12", "none", checkVersions, Plain},
	{"expect.identity", "expect", "identity=TEXT", "the server's own identity, as a test shows it", "none", checkName, Plain},
	{"expect.encrypted", "expect", "encrypted=true|false", "whether the connection is encrypted", "none", oneOf("true", "false"), Plain},
	{"expect.user", "expect", "user=ACCOUNT", "the account that matched, as a test shows it", "none", checkName, Plain},
	{"expect.superuser", "expect", "superuser=true|false", "whether this user may do anything", "none", oneOf("true", "false"), Plain},
	{"expect.read-only", "expect", "read-only=true|false", "whether the session can only read", "none", oneOf("true", "false"), Plain},
	{"expect.latency", "expect", "latency=DURATION", "the longest that a round trip may take", "none", checkLatency, Plain},
	{"expect.databases", "expect", "databases=NAME,…", "databases that must be visible", "none", checkName, Listed},
	{"expect.tables", "expect", "tables=NAME,…", "tables that must be visible", "none", checkName, Listed},
	{"expect.can", "expect", "can=RIGHT on TABLE,…", "rights that this user must have", "none", checkRight, Listed},
	{"expect.cannot", "expect", "cannot=RIGHT on TABLE,…", "rights that this user must not have", "none", checkRight, Listed},
	{"labels.", "label", "NAME=VALUE", "a label for people and for choosing profiles; may be repeated", "none", checkLine, Plain},
	{"note", "note", "TEXT", "a note for people", "none", checkNote, Plain},
}

// firstDatabases says for each engine what is opened when a profile names no database.
func firstDatabases() string {
	var parts []string
	for _, info := range known.Infos() {
		first := info.Database
		if first == "" {
			first = "none"
		}
		parts = append(parts, first+" for "+info.Title)
	}
	return strings.Join(parts, ", ")
}

// Where names the settings that are spellings of one thing: in which place the server is. A layer that has
// one of them replaces all of the lower layers', port included.
var Where = []string{"host", "socket"}

// Find gives the setting of a name as it stands in a layer; a key of a free map finds its map's setting.
func Find(name string) (Setting, bool) {
	for _, s := range Settings {
		if s.Name == name || strings.HasSuffix(s.Name, ".") && strings.HasPrefix(name, s.Name) && isKey(name[len(s.Name):]) {
			return s, true
		}
	}
	return Setting{}, false
}

// isKey reports whether a text can be a key of a map whose keys are free: one that can be shown as it is.
func isKey(text string) bool { return text != "" && len(text) <= 128 && outside.Clean(text) }

// KeyRule says what isKey wants, for messages.
const KeyRule = "has from 1 to 128 bytes, and no character that cannot be seen"

func checkEngine(text string) error {
	if _, ok := known.Info(text); !ok {
		return fmt.Errorf("%s is not an engine known here; write one of %s", quoted(text), strings.Join(known.Names(), ", "))
	}
	return nil
}

func checkPort(text string) error {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 65535 || strconv.Itoa(n) != text {
		return fmt.Errorf("%s is not a port; write a whole number from 1 to 65535", quoted(text))
	}
	return nil
}

var hostName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?)*\.?$`)
})

func checkHost(text string) error {
	if addr, err := netip.ParseAddr(text); err == nil {
		if !target.IsZone(addr.Zone()) {
			return fmt.Errorf("%s names no network interface behind the %%; a zone is an interface's name, as in fe80::1%%eth0", quoted(text))
		}
		return nil
	}
	host, port, err := SplitHost(text)
	if err != nil {
		return err
	}
	if host != text {
		if port != "" {
			return fmt.Errorf("%s is more than a host; write host: %s and port: %s", quoted(text), host, port)
		}
		return fmt.Errorf("%s is not just a host; write %s", quoted(text), host)
	}
	return nil
}

// SplitHost takes apart what people paste for a host: blanks around it, a port behind it, brackets around an
// IPv6 address. What cannot be taken apart safely is an error that says what to write instead.
func SplitHost(text string) (host, port string, err error) {
	host = strings.TrimSpace(text)
	if before, rest, ok := strings.Cut(host, "://"); ok {
		if _, known := schemes[strings.ToLower(before)]; known {
			return "", "", fmt.Errorf("this is a connection string and not a host; give it in the place of a host, port and user, as in gharbor add NAME CONNECTION-STRING")
		}
		if end := strings.IndexAny(rest, "/?#"); end >= 0 {
			rest = rest[:end]
		}
		if rest = rest[strings.LastIndexByte(rest, '@')+1:]; rest == "" {
			return "", "", fmt.Errorf("a scheme is not a host; write the host alone")
		}
		return "", "", fmt.Errorf("a host has no scheme before it; write just %s", quoted(rest))
	}
	if strings.HasPrefix(host, "/") {
		return "", "", fmt.Errorf("%s is a path; a Unix socket is named with socket, not with host", quoted(host))
	}
	if name, _, ok := strings.Cut(host, "/"); ok {
		return "", "", fmt.Errorf("a host has no path behind it; write %s, and a database with the setting database", quoted(name))
	}
	if _, name, ok := strings.Cut(host, "@"); ok {
		return "", "", fmt.Errorf("a host has no user before it; write %s, and whom to log in as with the setting user", quoted(name))
	}
	if inner, found := strings.CutPrefix(host, "["); found {
		inside, after, ok := strings.Cut(inner, "]")
		if !ok {
			return "", "", fmt.Errorf("%s lacks the closing bracket of an IPv6 address", quoted(host))
		}
		host, port = inside, strings.TrimPrefix(after, ":")
		if addr, err := netip.ParseAddr(host); err != nil || !target.IsZone(addr.Zone()) || after != "" && port == after {
			return "", "", fmt.Errorf("%s is not an IPv6 address in brackets, with or without :PORT behind it", quoted(text))
		}
	} else if strings.Count(host, ":") == 1 {
		host, port, _ = strings.Cut(host, ":")
		if port == "" {
			return "", "", fmt.Errorf("%s ends in a colon; write %s", quoted(text), quoted(host))
		}
	}
	if port != "" {
		if err := checkPort(port); err != nil {
			return "", "", err
		}
	}
	if addr, err := netip.ParseAddr(host); err == nil && target.IsZone(addr.Zone()) {
		return host, port, nil
	}
	switch {
	case host == "":
		return "", "", fmt.Errorf("a host is missing")
	case strings.ContainsFunc(host, unicode.IsSpace):
		return "", "", fmt.Errorf("%s has a blank inside; a host is one word", quoted(host))
	case len(host) > 253 || !hostName().MatchString(host):
		return "", "", fmt.Errorf("%s is not a host name or an IP address", quoted(host))
	}
	return host, port, nil
}

func checkName(text string) error {
	if len(text) > 256 {
		return fmt.Errorf("is longer than 256 bytes")
	}
	return checkLine(text)
}

func checkPath(text string) error {
	if len(text) > 4096 {
		return fmt.Errorf("is longer than a path can be")
	}
	return checkLine(text)
}

func checkMethod(text string) error {
	var all []string
	for _, info := range known.Infos() {
		if info.Method(text) != "" {
			return nil
		}
		all = append(all, info.Methods...)
	}
	if near := Nearest(text, all); near != "" {
		return fmt.Errorf("%s is no login method that is known here; did you mean %s?", quoted(text), near)
	}
	slices.Sort(all)
	return fmt.Errorf("%s is no login method that is known here; write one of %s", quoted(text), strings.Join(slices.Compact(all), ", "))
}

var account = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_.][A-Za-z0-9_.@+-]{0,63}\$?$`) })

func checkAccount(text string) error {
	if !account().MatchString(text) {
		return fmt.Errorf("%s is not the name or the number of an account", quoted(text))
	}
	return nil
}

func checkLine(text string) error {
	if len(text) > 1024 {
		return fmt.Errorf("is longer than 1024 bytes")
	}
	return checkNote(strings.ReplaceAll(text, "\n", "\x00"))
}

func checkNote(text string) error {
	if len(text) > 16<<10 {
		return fmt.Errorf("is longer than 16 KB")
	}
	if !utf8.ValidString(text) {
		return fmt.Errorf("is not UTF-8 text")
	}
	for _, r := range text {
		if outside.Unsafe(r) && r != '\n' && r != '\t' {
			return fmt.Errorf("holds the character %U, which cannot be seen", r)
		}
	}
	return nil
}

var versions = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:(?:>=|<=|>|<|=)?\s*\d+(?:\.\d+)*\s*)+$`)
})

func checkVersions(text string) error {
	if len(text) > 100 || !versions().MatchString(text) {
		return fmt.Errorf("%s is no range of versions; write one as in >= 15, or >= 10.6 < 12", quoted(text))
	}
	return nil
}

func checkLatency(text string) error {
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 || d > time.Hour {
		return fmt.Errorf("%s is not a time; write one such as 20ms", quoted(text))
	}
	return nil
}

// Rights lists the rights on tables that an expectation can name.
var Rights = []string{"select", "insert", "update", "delete", "references", "trigger"}

func checkRight(text string) error {
	right, table, ok := strings.Cut(text, " on ")
	if !ok || !slices.Contains(Rights, right) || strings.TrimSpace(table) == "" || checkName(table) != nil {
		return fmt.Errorf("%s is no right; write one as in select on booking (%s)", quoted(text), strings.Join(Rights, ", "))
	}
	return nil
}

func checkStatement(text string) error {
	if strings.TrimSpace(text) == "" {
		return fmt.Errorf("is empty")
	}
	return checkNote(text)
}

func checkBase(text string) error {
	_, name := SplitLayer(text)
	return CheckName(name)
}

func checkSecret(text string) error {
	_, err := secret.ParseReference(text)
	return err
}

func checkDuration(text string) error {
	d, err := time.ParseDuration(text)
	if err != nil || d < 10*time.Millisecond || d > time.Hour {
		return fmt.Errorf("%s is not a time; write one from 10ms to 1h, such as 5s or 1m30s", quoted(text))
	}
	return nil
}

func oneOf(words ...string) func(string) error {
	return func(text string) error {
		for _, word := range words {
			if text == word {
				return nil
			}
		}
		return fmt.Errorf("%s is not known here; write one of %s", quoted(text), strings.Join(words, ", "))
	}
}

// quoted shows a wrong value in a message: cleaned, short, in quotes.
func quoted(text string) string {
	shown := outside.Text(text)
	if r := []rune(shown); len(r) > 60 {
		shown = string(r[:60]) + "…"
	}
	return `"` + shown + `"`
}
