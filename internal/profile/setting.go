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
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Setting describes one thing that a profile can say. Settings is the table that reading,
// checking, flags, help and documentation are all made from.
type Setting struct {
	// Name is the key in the file; one inside a map is written "tls.mode", and a map whose keys
	// are free ends in a dot, as in "labels.".
	Name string
	// Flag is the name of the flag that sets it, without dashes.
	Flag string
	// Value names the kind of value for help, such as "HOST".
	Value string
	// About says in one line what it is, and Default what holds when nobody says anything. What is in
	// brackets is said of the engines: see Meaning and Otherwise.
	About, Default string
	// Check says what is wrong with a value, nil when nothing is. It must not repeat a secret.
	Check func(text string) error
	// Type says what a value is, Scope who may say it.
	Type  Type
	Scope Scope
	// Statements says that its texts are run on a server.
	Statements bool
	// Aside says that it is for people, and has no part in a connection.
	Aside bool
	// Short says that the map may be written as a single text, which is this setting, as in
	// "timeout: 5s".
	Short bool
}

// Type is what a value is.
type Type byte

// The types of a value.
const (
	Text Type = iota
	Host      // a host, which people paste with a port or brackets
	Port      // a whole number from 1 to 65535
	Path      // the path of a file; a relative one starts at the file that says it
	Duration
	SecretRef // a reference to a secret: a text, or in a file a map with the key command
	List      // of texts; a higher layer's replaces a lower one's
	Maps      // a list of texts, or of maps that stand for one
	OneMap    // a text, or a map that stands for it
	Map       // whose keys are free, each with a text
)

// Scope is who may say a setting.
type Scope byte

// The scopes of a setting.
const (
	Anywhere Scope = iota
	OfItself       // only a profile, of itself: not a group, a flag of a run, or a variable
	OfAlias        // only an alias, in a file of aliases
)

// AddressParts names the settings that say where the server is: those of Where, and what belongs
// to one of them.
func AddressParts() []string { return append([]string{"port"}, Where...) }

// Keyed reports whether the setting's flag takes KEY=VALUE, since several settings or free keys
// share it.
func (s Setting) Keyed() bool {
	return s.Type == Map || len(Flagged(s.Flag)) > 1
}

// IsList reports whether the setting has several values, of which a flag says one each time.
func (s Setting) IsList() bool { return s.Type == List || s.Type == Maps }

// Flagged gives the settings that a flag sets.
func Flagged(flag string) []Setting {
	var list []Setting
	for _, s := range Settings {
		if s.Flag == flag {
			list = append(list, s)
		}
	}
	return list
}

// InMap gives the settings of a map, such as "tls"; none for what is no map. The list is not to
// be changed.
func InMap(group string) []Setting { return byMap()[group] }

var byMap = sync.OnceValue(func() map[string][]Setting {
	found := map[string][]Setting{}
	for _, s := range Settings {
		if group, _, inner := strings.Cut(s.Name, "."); inner {
			found[group] = append(found[group], s)
		}
	}
	return found
})

// Settings lists every setting, in the order in which files, show and help have them.
var Settings = []Setting{
	{Name: "base", Flag: "base", Value: "NAME",
		About: "another profile to start from; mine:NAME or project:NAME names the layer", Default: "none",
		Check: checkBase, Scope: OfItself},
	{Name: "engine", Flag: "engine", Value: "ENGINE",
		About: "the kind of database server: {engines}", Default: "required",
		Check: checkEngine},
	{Name: "host", Flag: "host", Value: "HOST", About: "the server's name or address", Default: "localhost",
		Check: checkHost, Type: Host},
	{Name: "port", Flag: "port", Value: "PORT", About: "the port it listens on, 1 to 65535",
		Default: "the engine's", Check: checkPort, Type: Port},
	{Name: "socket", Flag: "socket", Value: "PATH",
		About: "a Unix socket, or a folder with the server's socket in it, instead of a host", Default: "none",
		Check: checkPath, Type: Path},
	{Name: "alias", Flag: "alias", Value: "NAME",
		About:   "an alias instead of a host: a short name for a server, stored in a file of aliases (gharbor alias)",
		Default: "none", Check: checkAlias},
	{Name: "container", Flag: "container", Value: "CONTAINER",
		About: "a container instead of a host: NAME, NAME:PORT with the port inside, or SERVICE@PROJECT of " +
			"Compose; looked up at each connection",
		Default: "none", Check: checkContainer, Type: OneMap},
	{Name: "cloud", Flag: "cloud", Value: "SERVER",
		About: "a server of a cloud instead of a host: ACCOUNT/SERVER, or {account: …, server: …, replica: …, " +
			"address: public or private}; the cloud says where it is at each connection",
		Default: "none", Check: checkCloud, Type: OneMap},
	{Name: "database", Flag: "database", Value: "NAME", About: "the database to open",
		Default: "{first databases}", Check: checkName},
	{Name: "service", Flag: "service", Value: "NAME",
		About: "the service to ask a listener for, for engines with a listener ({listeners}" +
			"); database alone means the same there", Default: "none", Check: checkServed},
	{Name: "instance", Flag: "instance", Value: "NAME",
		About: "the instance to ask a listener for, instead of a service", Default: "none", Check: checkServed},
	{Name: "user", Flag: "user", Value: "NAME", About: "the user to log in as",
		Default: "the wallet's only one for this server; else asked for", Check: checkName},
	{Name: "role", Flag: "role", Value: "NAME", About: "a role to take on after logging in{modes}",
		Default: "none", Check: checkName},
	{Name: "secret", Flag: "secret", Value: "REFERENCE",
		About:   "where the password comes from: " + secret.Forms,
		Default: "looked for in the wallets and the credential file; none on a socket; else asked for",
		Check:   checkSecret, Type: SecretRef},
	{Name: "via", Flag: "via", Value: "HOP",
		About: "a jump host before the server, reached by SSH: [user@]host[:port], or a Host of your SSH " +
			"configuration; may be repeated, and each is reached through the one before",
		Default: "none", Check: checkHop, Type: Maps},
	{Name: "tls.mode", Flag: "tls", Value: "MODE",
		About:   "encryption: off, encrypt (no identity check) or verify",
		Default: "off for this machine's own addresses, else verify", Check: oneOf("off", "encrypt", "verify")},
	{Name: "tls.ca", Flag: "tls-ca", Value: "FILE",
		About:   "certificates (PEM) of the authorities to trust instead of the system's",
		Default: "the system's", Check: checkPath, Type: Path},
	{Name: "tls.cert", Flag: "tls-cert", Value: "FILE", About: "a client certificate (PEM) to show",
		Default: "none", Check: checkPath, Type: Path},
	{Name: "tls.key", Flag: "tls-key", Value: "FILE", About: "the client certificate's private key (PEM)",
		Default: "none", Check: checkPath, Type: Path},
	{Name: "tls.server-name", Flag: "tls-server-name", Value: "NAME",
		About: "the name that the server's certificate must have", Default: "the host", Check: checkHost},
	{Name: "login-methods", Flag: "login-methods", Value: "METHOD",
		About: "a login method to accept, such as scram-sha-256, or nothing-asked for a server that asks for " +
			"nothing; may be repeated, and all others are refused",
		Default: "all that do not show the password; those too where the server is known for sure",
		Check:   checkMethod, Type: List},
	{Name: "socket-owner", Flag: "socket-owner", Value: "ACCOUNT",
		About:   "the account, by name or number, whose server may be behind the socket",
		Default: "root, your own, the server's usual account, or a system account that owns the folder",
		Check:   checkAccount},
	{Name: "pooled", Flag: "pooled", Value: "no|session|transaction",
		About: "whether a pooler is in front of the server, and whether it gives each client a session of its " +
			"own or one for each transaction",
		Default: "found out", Check: oneOf("no", "session", "transaction")},
	{Name: "timeout.leg", Flag: "timeout", Value: "DURATION",
		About: "the longest that one leg, or one answer, may take", Default: "5s", Check: checkDuration,
		Type: Duration, Short: true},
	{Name: "timeout.total", Flag: "timeout-total", Value: "DURATION",
		About: "the longest that the whole route may take", Default: "30s", Check: checkDuration, Type: Duration},
	{Name: "timeout.ask", Flag: "timeout-ask", Value: "DURATION",
		About: "the longest that a person or an agent may take to answer a hop's question; the limits of legs " +
			"do not count meanwhile",
		Default: "2m", Check: checkDuration, Type: Duration},
	{Name: "options.", Flag: "option", Value: "NAME=VALUE",
		About: "a session setting from the engine's list; may be repeated", Default: "none", Check: checkLine,
		Type: Map},
	{Name: "on-open", Flag: "on-open", Value: "STATEMENT",
		About:   "a statement to run when a session opens, after the expectations were checked; may be repeated",
		Default: "none", Check: checkStatement, Type: List, Statements: true},
	{Name: "guard", Flag: "guard", Value: "LEVEL",
		About: "what statements may do: none is anything, confirm asks before one that changes something, " +
			"read-only refuses it; it does not hold behind a door",
		Default: "none", Check: oneOf(guard.Levels...)},
	{Name: "expect.server", Flag: "expect", Value: "server=VERSIONS",
		About: "the server's version, such as >= 15 or >= 10.6 < 12", Default: "none", Check: checkVersions},
	{Name: "expect.identity", Flag: "expect", Value: "identity=TEXT",
		About: "the server's own identity, as a test shows it", Default: "none", Check: checkName},
	{Name: "expect.encrypted", Flag: "expect", Value: "encrypted=true|false",
		About: "whether the connection is encrypted", Default: "none", Check: oneOf("true", "false")},
	{Name: "expect.user", Flag: "expect", Value: "user=ACCOUNT",
		About: "the account that matched, as a test shows it", Default: "none", Check: checkName},
	{Name: "expect.superuser", Flag: "expect", Value: "superuser=true|false",
		About: "whether this user may do anything", Default: "none", Check: oneOf("true", "false")},
	{Name: "expect.read-only", Flag: "expect", Value: "read-only=true|false",
		About: "whether the session can only read", Default: "none", Check: oneOf("true", "false")},
	{Name: "expect.latency", Flag: "expect", Value: "latency=DURATION",
		About: "the longest that a round trip may take", Default: "none", Check: checkLatency, Type: Duration},
	{Name: "expect.databases", Flag: "expect", Value: "databases=NAME,…",
		About: "databases that must be visible", Default: "none", Check: checkName, Type: List},
	{Name: "expect.tables", Flag: "expect", Value: "tables=NAME,…", About: "tables that must be visible",
		Default: "none", Check: checkName, Type: List},
	{Name: "expect.can", Flag: "expect", Value: "can=RIGHT on TABLE,…",
		About: "rights that this user must have", Default: "none", Check: checkRight, Type: List},
	{Name: "expect.cannot", Flag: "expect", Value: "cannot=RIGHT on TABLE,…",
		About: "rights that this user must not have", Default: "none", Check: checkRight, Type: List},
	{Name: "door", Flag: "door", Value: "PORT",
		About:   "the port on this machine that a door to the profile has (gharbor hold, with)",
		Default: "any free one", Check: checkPort, Aside: true},
	{Name: "hand-over.", Flag: "hand-over", Value: "VARIABLE=WHAT",
		About:   "a variable that gharbor with gives a program: uri, host, port, user, database or secret; may be repeated",
		Default: "none", Check: oneOf("uri", "host", "port", "user", "database", "secret"), Type: Map},
	{Name: "labels.", Flag: "label", Value: "NAME=VALUE",
		About: "a label for people and for choosing profiles; may be repeated", Default: "none",
		Check: checkLine, Type: Map, Aside: true},
	{Name: "note", Flag: "note", Value: "TEXT", About: "a note for people", Default: "none", Check: checkNote,
		Aside: true},
}

// AliasSettings are what an alias says of a server, besides some of Settings (see [InAlias]).
var AliasSettings = []Setting{
	{Name: "addresses", Flag: "address", Value: "ADDRESS",
		About: "where the server is: HOST, HOST:PORT, or the path of a socket; may be repeated, and the next " +
			"is tried when one does not answer",
		Default: "required, or srv, or same-as", Check: checkAddress, Type: Maps, Scope: OfAlias},
	{Name: "srv", Flag: "srv", Value: "NAME",
		About:   "a DNS name whose SRV records (RFC 2782) say the addresses, instead of addresses",
		Default: "none", Check: checkHost, Scope: OfAlias},
	{Name: "same-as", Flag: "same-as", Value: "ALIAS", About: "another alias, of which this is a further name",
		Default: "none", Check: checkAlias, Scope: OfAlias},
	{Name: "wants", Flag: "wants", Value: "ROLE",
		About:   "what the server must be: primary, replica or either; another address is tried when it is not",
		Default: "either", Check: oneOf("primary", "replica", "either"), Scope: OfAlias},
	{Name: "pick", Flag: "pick", Value: "ORDER",
		About: "the order in which addresses are tried: in-order or random", Default: "in-order",
		Check: oneOf("in-order", "random"), Scope: OfAlias},
}

// InAlias reports whether an alias may say a setting: where the server is, how to get there, and
// who is trusted there.
func InAlias(s Setting) bool {
	return s.Scope == OfAlias || slices.Contains([]string{"engine", "database", "service", "instance", "via",
		"tls.mode", "tls.ca", "tls.server-name", "note"}, s.Name)
}

// all gives both tables, in the order in which files and show have them.
var all = sync.OnceValue(func() []Setting {
	engine := slices.IndexFunc(Settings, func(s Setting) bool { return s.Name == "engine" }) + 1
	return slices.Concat(Settings[:engine], AliasSettings, Settings[engine:])
})

// Meaning says in one line what the setting is.
func (s Setting) Meaning() string { return ofEngines(s.About) }

// Otherwise says what holds when nobody says anything.
func (s Setting) Otherwise() string { return ofEngines(s.Default) }

// ofEngines fills in what is said of the engines. What they say of themselves is not put together at
// each start of the program.
func ofEngines(text string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	return saidOfEngines().Replace(text)
}

var saidOfEngines = sync.OnceValue(func() *strings.Replacer {
	return strings.NewReplacer("{engines}", strings.Join(known.Names(), ", "), "{first databases}", firstDatabases(),
		"{listeners}", listeners(), "{modes}", modes())
})

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

// listeners names the engines with a listener.
func listeners() string {
	var titles []string
	for _, info := range known.Infos() {
		if info.Serves {
			titles = append(titles, info.Title)
		}
	}
	return strings.Join(titles, ", ")
}

// modes names the roles that are privileged modes of a login.
func modes() string {
	text := ""
	for _, info := range known.Infos() {
		if info.Modes != nil {
			text += "; for " + info.Title + " the privileged mode of the login, " + Or(info.Modes)
		}
	}
	return text
}

// Within names the settings that say what is opened at a server. A layer that has one of them
// hides what lower layers say of a service or an instance, and a service or an instance hides the
// database of lower layers.
var Within = []string{"service", "instance", "database"}

// Where names the settings that are spellings of one thing: in which place the server is. A layer
// that has one of them replaces all of the lower layers', port included.
var Where = []string{"host", "socket", "alias", "container", "cloud"}

// Find gives the setting of a name as it is in a layer; a key of a free map finds its map's
// setting.
func Find(name string) (Setting, bool) {
	for _, s := range all() {
		if s.Name == name || strings.HasSuffix(s.Name, ".") && strings.HasPrefix(name, s.Name) && isKey(name[len(s.Name):]) {
			return s, true
		}
	}
	return Setting{}, false
}

// isKey reports whether a text can be a key of a map whose keys are free: one that can be shown
// as it is.
func isKey(text string) bool { return text != "" && len(text) <= 128 && outside.Clean(text) }

// KeyRule says what isKey wants, for messages.
const KeyRule = "has from 1 to 128 bytes, and no character that cannot be seen"

func checkEngine(text string) error {
	if _, ok := known.Info(text); !ok {
		if name, means := EngineOf(text); means {
			return fmt.Errorf("%s is called %s here", quoted(text), name)
		}
		return fmt.Errorf("%s is not an engine known here; write one of %s", quoted(text), strings.Join(known.Names(), ", "))
	}
	return nil
}

// A ValueError is the error of a number or a duration that is none. What was given in its place
// may be a password in the wrong flag, so that only who reads files shows it.
type ValueError struct {
	text, rule string
}

// Error shows the value and the rule.
func (e *ValueError) Error() string { return quoted(e.text) + " " + e.rule }

// Rule gives the error without the value.
func (e *ValueError) Rule() string { return "this value " + e.rule }

func checkPort(text string) error {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 65535 || strconv.Itoa(n) != text {
		return &ValueError{text, "is not a port; write a whole number from 1 to 65535"}
	}
	return nil
}

var hostName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?)*\.?$`)
})

func checkHost(text string) error {
	if addr, err := netip.ParseAddr(text); err == nil {
		if !target.IsZone(addr.Zone()) {
			return fmt.Errorf("%s names no network interface behind the %%; a zone is an interface's name, as in fe80::1%%eth0",
				quoted(text))
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

// SplitHost takes apart what people paste for a host: spaces around it, a port behind it,
// brackets around an IPv6 address. What cannot be taken apart safely is an error that says what
// to write instead.
func SplitHost(text string) (host, port string, err error) {
	host = strings.TrimSpace(text)
	if before, rest, ok := strings.Cut(host, "://"); ok {
		if _, known := schemeOf(strings.ToLower(before)); known {
			return "", "", fmt.Errorf("this is a connection string and not a host; write it instead of a host, " +
				"port and user, as in gharbor add NAME CONNECTION-STRING")
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
		return "", "", fmt.Errorf("a host has no path behind it; write %s, and a database with the setting database",
			quoted(name))
	}
	if _, name, ok := strings.Cut(host, "@"); ok {
		return "", "", fmt.Errorf("a host has no user before it; write %s, and the user to log in as with the setting user",
			quoted(name))
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
		return "", "", fmt.Errorf("%s has a space inside; a host is one word", quoted(host))
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

var served = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.$#-]{0,127}$`)
})

func checkServed(text string) error {
	if !served().MatchString(text) {
		return fmt.Errorf("%s is not the name of a service or an instance: it has letters, digits and . _ $ # -",
			quoted(text))
	}
	return nil
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
	return fmt.Errorf("%s is no login method that is known here; write one of %s", quoted(text),
		strings.Join(slices.Compact(all), ", "))
}

var account = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z0-9_.][A-Za-z0-9_.@+-]{0,63}\$?$`)
})

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
			return fmt.Errorf("has the character %U, which cannot be seen", r)
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
		return &ValueError{text, "is not a time; write one such as 20ms"}
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
		return &ValueError{text, "is not a time; write one from 10ms to 1h, such as 5s or 1m30s"}
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
