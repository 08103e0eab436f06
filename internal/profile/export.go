package profile

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/joho/godotenv"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
	"gentle-harbor/internal/target"
)

// Variable gives the environment variable that overrides the setting, "" where none does.
func (s Setting) Variable() string {
	if s.Scope != Anywhere || s.IsList() || s.Keyed() {
		return ""
	}
	return "GHARBOR_" + strings.ToUpper(strings.ReplaceAll(s.Flag, "-", "_"))
}

// escape percent-encodes all but unreserved characters (RFC 3986, section 2.3).
func escape(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if c := text[i]; c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
			strings.IndexByte("-._~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// URI writes the profile as a connection string that programs read, with the password when one is
// given. Left names the settings that such a string cannot carry.
func (e Effective) URI(password secret.Secret) (uri string, left []string) {
	info, _ := known.Info(e.Engine)
	if one, is := e.First(); is {
		if host, records := strings.CutPrefix(e.SRV, info.Records); records && info.Records != "" {
			one.records, one.Host, one.Port = true, host, 0
			return one.URI(password)
		}
		uri, left = one.URI(password)
		return uri, append(left, "the alias: the string leads to the first of its addresses")
	}
	words := info.Parameters
	if _, err := netip.ParseAddr(e.Host); err == nil && e.TLS.Mode == "verify" && e.TLS.ServerName != "" &&
		words["address"] != "" {
		// the name to verify, apart from the address
		e.address, e.Host, e.Values = e.Host, e.TLS.ServerName, maps.Clone(e.Values)
		delete(e.Values, "tls.server-name")
	}
	var b strings.Builder
	b.WriteString(e.Engine + map[bool]string{true: "+srv"}[e.records] + "://")
	if e.User != "" {
		b.WriteString(escape(e.User))
		if password.Given() {
			b.WriteString(":" + escape(password.Reveal()))
		}
		b.WriteByte('@')
	}
	query := url.Values{}
	port, ours := strings.CutPrefix(filepath.Base(e.Socket), info.SocketFile)
	switch {
	case e.Socket != "" && info.SocketFile != "" && ours:
		query.Set("host", filepath.Dir(e.Socket))
		query.Set("port", port)
	case e.Socket != "" && info.SocketFile != "":
		query.Set("host", e.Socket)
	case e.Socket != "":
		b.WriteString("localhost")
		query.Set("socket", e.Socket)
	case strings.Contains(e.Host, ":"):
		b.WriteString("[" + strings.ReplaceAll(e.Host, "%", "%25") + "]")
	default:
		b.WriteString(e.Host)
	}
	if e.address != "" {
		query.Set(words["address"], e.address)
	}
	if e.Port != 0 {
		b.WriteString(":" + strconv.Itoa(e.Port))
	}
	b.WriteByte('/')
	b.WriteString(escape(e.Database))
	if e.Socket == "" {
		query.Set(words["mode"], words[e.TLS.Mode])
		if e.TLS.Mode == "encrypt" && words["unchecked"] != "" {
			name, value, said := strings.Cut(words["unchecked"], "=")
			if !said {
				value = "false"
			}
			query.Set(name, value)
		}
	}
	if e.alone && words["alone"] != "" {
		query.Set(words["alone"], "true")
	}
	if e.Instance != "" {
		query.Set(words["instance"], e.Instance)
	}
	for key, value := range map[string]string{"ca": e.TLS.CA, "cert": e.TLS.Cert, "key": e.TLS.Key} {
		if value != "" {
			query.Set(words[key], value)
		}
	}
	if info.AccountsIn != "" && e.User != "" && e.Database != "" && e.Values["options."+info.AccountsIn].Text == "" {
		left = append(left, fmt.Sprintf("which database knows the account (clients look in %s; the option %s "+
			"says another one)",
			e.Database, info.AccountsIn))
	}
	unit := time.Second
	if info.Milliseconds {
		unit = time.Millisecond
	}
	var session []string // settings of the session, as "options" has them
	for _, name := range e.Values.Names() {
		value := e.Values[name]
		option, isOption := strings.CutPrefix(name, "options.")
		if name == "role" {
			option, isOption = name, true
		}
		switch {
		case strings.HasPrefix(name, "labels."), strings.HasPrefix(name, "expect."), name == "note",
			name == "base", name == "secret", e.alone && isOption && option == info.Stays():
		case isOption && words["option "+option] != "":
			query.Set(words["option "+option], value.Text)
		case isOption && option == words["option"]:
			query.Set(option, value.Text)
		case isOption && words["options"] != "":
			session = append(session, "-c "+option+"="+strings.NewReplacer(`\`, `\\`, " ", `\ `).Replace(value.Text))
		case name == "timeout.leg" && value.Origin.Layer != LayerDefault && e.Leg%unit == 0:
			query.Set(words["timeout"], strconv.Itoa(int(e.Leg/unit)))
		case name == "role", name == "on-open", name == "via", name == "tls.server-name",
			name == "login-methods", name == "socket-owner", name == "pooled", strings.HasPrefix(name, "options."),
			strings.HasPrefix(name, "timeout.") && e.Values[name].Origin.Layer != LayerDefault:
			left = append(left, strings.ReplaceAll(name, ".", " "))
		}
	}
	if session != nil {
		query.Set(words["options"], strings.Join(session, " "))
	}
	if len(query) > 0 {
		b.WriteString("?" + strings.ReplaceAll(query.Encode(), "+", "%20"))
	}
	return b.String(), left
}

// First gives a profile of an alias as one of its first address, for what cannot hold several; is
// says that it is of an alias. Where SRV records say the addresses, there is none, and the host
// is the name that was asked for.
func (e Effective) First() (one Effective, is bool) {
	if e.Alias == "" {
		return e, false
	}
	one = e
	one.Alias, one.Addresses, one.SRV = "", nil, ""
	switch {
	case len(e.Addresses) == 0:
		one.Host = e.SRV
	case e.Addresses[0].Kind == target.Socket:
		one.Socket = e.Addresses[0].Name
	default:
		one.Host, one.Port = e.Addresses[0].Name, e.Addresses[0].Port
	}
	return one, true
}

// KnownAs gives the profile with the database that knows its account, as a server has named the
// account, where the engine's clients have to be told and the profile does not say it.
func (e Effective) KnownAs(account string) Effective {
	info, _ := known.Info(e.Engine)
	in, is := strings.CutPrefix(account, e.User+"@")
	if setting := "options." + info.AccountsIn; info.AccountsIn != "" && is && in != "" && e.Values[setting].Text == "" {
		e.Values = maps.Clone(e.Values)
		e.Values[setting] = Value{Text: in}
	}
	return e
}

// Door is where a door to a profile's server is on this machine: a port of 127.0.0.1, or a Unix
// socket.
type Door struct {
	Port   int
	Socket string // "" for a port
	// Passing says that the door passes bytes, and its clients encrypt by themselves.
	Passing bool
}

// AtDoor gives the profile as a client of a door needs it. At a door that encrypts by itself,
// that is the door's address alone, without encryption: any client can use it. At one that passes
// bytes, encryption is unchanged; where the server's identity is checked, its name stays the host
// if the engine's clients can be told the address apart from it. Named is false where they
// cannot, and then the client must be told the name in its own way.
func (e Effective) AtDoor(door Door) (at Effective, named bool) {
	info, _ := known.Info(e.Engine)
	e, _ = e.First()
	at, named = e, true
	at.Via, at.alone = nil, true
	at.Values = maps.Clone(e.Values)
	maps.DeleteFunc(at.Values, func(name string, _ Value) bool {
		return name == "via" || !door.Passing &&
			(strings.HasPrefix(name, "tls.") || name == "login-methods" || name == "socket-owner")
	})
	if !door.Passing {
		at.TLS = target.TLS{Mode: "off"}
	}
	if door.Socket != "" {
		at.Host, at.Port, at.Socket = "", 0, door.Socket
		return at, true
	}
	at.Port = door.Port
	if at.TLS.Mode == "verify" {
		if e.TLS.ServerName != "" {
			at.Host = e.TLS.ServerName
			delete(at.Values, "tls.server-name")
		}
		if info.Parameters["address"] != "" {
			at.address = "127.0.0.1"
			return at, true
		}
		named = false
	}
	at.Host, at.Socket = "127.0.0.1", ""
	return at, named
}

// HandedOver shows each variable that the profile hands to a program, with its value as it would
// be but for the door's port and the secret.
func (e Effective) HandedOver() []string {
	const port, word = 65535, "the-secret-stands-here"
	at, _ := e.AtDoor(Door{Port: port})
	uri, _ := at.URI(secret.New(word))
	uri = strings.Replace(strings.Replace(uri, word, "[secret]", 1), ":"+strconv.Itoa(port), ":[door's port]", 1)
	value := map[string]string{"uri": uri, "host": "127.0.0.1", "port": "[door's port]", "user": e.User,
		"database": e.Database, "secret": "[secret]"}
	var list []string
	for _, name := range e.Values.Names() {
		if variable, ok := strings.CutPrefix(name, "hand-over."); ok {
			list = append(list, variable+"="+value[e.Values[name].Text])
		}
	}
	return list
}

// Pair is a variable and its value.
type Pair struct{ Name, Value string }

// Variables writes the profile as the variables that override settings here.
func (e Effective) Variables(password secret.Secret) (pairs []Pair, left []string) {
	for _, name := range e.Values.Names() {
		s, _ := Find(name)
		switch value := e.Values[name]; {
		case s.Name == "secret" && password.Given(), value.Origin.Layer == LayerAlias:
		case s.Variable() != "" && value.Origin.Layer != LayerDefault:
			pairs = append(pairs, Pair{s.Variable(), e.exported(name, value)})
		case s.Variable() == "" && s.Scope != OfItself:
			left = append(left, strings.ReplaceAll(name, ".", " "))
		}
	}
	if password.Given() {
		pairs = append(pairs, Pair{"GHARBOR_SECRET", "env:DATABASE_PASSWORD"}, Pair{"DATABASE_PASSWORD", password.Reveal()})
	}
	return pairs, left
}

// exported gives a value as it holds elsewhere: a path is made absolute.
func (e Effective) exported(name string, v Value) string {
	if s, _ := Find(name); s.Type == Path {
		return e.path(v)
	}
	if name == "secret" {
		return e.Secret.String()
	}
	return v.Text
}

// DatabaseVariables writes the profile as the variables that programs commonly read.
func (e Effective) DatabaseVariables(password secret.Secret) (pairs []Pair, left []string) {
	uri, left := e.URI(password)
	e, _ = e.First()
	pairs = []Pair{{"DATABASE_URL", uri}}
	port := ""
	if e.Port != 0 {
		port = strconv.Itoa(e.Port)
	}
	for _, p := range []Pair{{"DATABASE_HOST", e.Host}, {"DATABASE_PORT", port}, {"DATABASE_SOCKET", e.Socket},
		{"DATABASE_NAME", e.Database}, {"DATABASE_USER", e.User}} {
		if p.Value != "" {
			pairs = append(pairs, p)
		}
	}
	if password.Given() {
		pairs = append(pairs, Pair{"DATABASE_PASSWORD", password.Reveal()})
	}
	return pairs, left
}

// Dotenv writes pairs as a file of NAME=VALUE lines that a POSIX shell sources and dotenv
// libraries read, with the same result (the forms that both have: plain letters, '…', and "…"
// with \ before \ " $ and `). Some values have no such form (a backslash and a quote at the end,
// say); they are left out and named.
func Dotenv(pairs []Pair) (text string, left []string) {
	for _, p := range pairs {
		line := ""
		forms := []string{"'" + p.Value + "'",
			`"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(p.Value) + `"`}
		switch {
		case strings.Contains(p.Value, "'"):
			forms = forms[1:] // a shell's '…' ends at the first one
		case shell.Posix.Word(p.Value) == p.Value:
			forms = slices.Insert(forms, 0, p.Value)
		}
		for _, form := range forms {
			try := p.Name + "=" + form + "\n"
			if read, err := godotenv.Unmarshal(try + "NEXT=x\n"); err == nil && read[p.Name] == p.Value &&
				read["NEXT"] == "x" && len(read) == 2 {
				line = try
				break
			}
		}
		if line == "" {
			left = append(left, p.Name)
		}
		text += line
	}
	return text, left
}

// Binding writes the profile as the entries of a service binding (servicebinding.io): file names
// and contents.
func (e Effective) Binding(password secret.Secret) (entries []Pair, left []string) {
	uri, left := e.URI(password)
	e, _ = e.First()
	info, _ := known.Info(e.Engine)
	kind, provider := info.Binding, e.Engine
	if !slices.ContainsFunc(known.Infos(), func(other engine.Info) bool {
		return other.Binding == kind && other.Name != e.Engine
	}) {
		provider = ""
	}
	port := ""
	if e.Port != 0 {
		port = strconv.Itoa(e.Port)
	}
	for _, p := range []Pair{{"type", kind}, {"provider", provider}, {"host", e.Host}, {"port", port},
		{"database", e.Database}, {"username", e.User}, {"uri", uri}} {
		if p.Value != "" {
			entries = append(entries, p)
		}
	}
	if password.Given() {
		entries = append(entries, Pair{"password", password.Reveal()})
	}
	return entries, left
}

// JSON writes the profile with all that it says, in the shape of its file.
func (e Effective) JSON(password secret.Secret) ([]byte, error) {
	settings := map[string]any{}
	for _, name := range e.Values.Names() {
		v := e.Values[name]
		if v.Origin.Layer == LayerDefault || v.Origin.Layer == LayerAlias || name == "base" {
			continue
		}
		var value any = e.exported(name, v)
		switch {
		case v.List != nil:
			value = v.List
		case name == "port":
			value = e.Port
		}
		group, key, nested := strings.Cut(name, ".")
		if !nested {
			settings[name] = value
			continue
		}
		if settings[group] == nil {
			settings[group] = map[string]any{}
		}
		settings[group].(map[string]any)[key] = value
	}
	whole := map[string]any{"profile": e.Name, "settings": settings}
	if password.Given() {
		whole["password"] = password.Reveal()
		delete(settings, "secret")
	}
	return json.MarshalIndent(whole, "", "  ")
}
