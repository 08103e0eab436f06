package profile

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Effective is a profile as it counts: every value decided, typed, and with its origin in Values.
type Effective struct {
	Name     string // the profile's name, "" for a connection string that is not saved
	Engine   string
	Host     string // as written; "" when Socket is set
	Port     int
	Socket   string
	Database string
	User     string
	Role     string
	Secret   secret.Reference
	TLS      target.TLS
	// LoginMethods are the only login methods to accept, by the engine's names; empty for all that it has.
	LoginMethods []string
	SocketOwner  string        // the account whose server may be behind the socket, "" for the usual ones
	Leg          time.Duration // the longest one leg may take
	Total        time.Duration // the longest all may take
	Options      map[string]string
	OnOpen       []string
	Labels       map[string]string
	Note         string
	// Values has every effective setting that is not "none", with its origin.
	Values Layer
	// Under has the values that others hide, nearest first.
	Under map[string][]Value
	// Problems lists what is missing or does not fit together; a profile with any cannot connect.
	Problems []Problem
}

// Problem is one thing that keeps a profile from connecting.
type Problem struct {
	Setting string // the setting to mend
	Missing bool   // it was not said at all
	Text    string // a sentence
	Origin  Origin // where the wrong value stands, for one that is not missing
}

// Resolve decides every setting from layers, highest first, and the engine's defaults.
func Resolve(name string, layers ...Layer) Effective {
	values, under := merge(layers)
	e := Effective{Name: name, Values: values, Under: under, Options: map[string]string{}, Labels: map[string]string{}}
	wrong := func(setting, format string, args ...any) {
		_, said := values[setting]
		e.Problems = append(e.Problems, Problem{Setting: setting, Missing: !said, Text: fmt.Sprintf(format, args...), Origin: values[setting].Origin})
	}
	text := func(setting string) string { return values[setting].Text }
	missing := func(setting, otherwise string) {
		if _, said := values[setting]; !said && otherwise != "" {
			values[setting] = Value{Text: otherwise, Origin: Origin{Layer: "default"}}
		}
	}

	info, isKnown := known.Info(text("engine"))
	if !isKnown {
		wrong("engine", "The setting engine is missing: it says which kind of server this is (%s).", strings.Join(known.Names(), ", "))
	}
	switch {
	case text("socket") != "" && text("host") != "":
		wrong("socket", "The settings host and socket are two different ways in; keep one of them.")
	case text("socket") != "" && text("port") != "":
		wrong("port", "A port goes with a host; where a socket's file holds the port in its name, write the whole path in socket.")
	case text("socket") == "":
		missing("host", "localhost")
		if info.Port != 0 {
			missing("port", strconv.Itoa(info.Port))
		}
	}
	missing("database", info.Database)
	missing("tls.mode", defaultMode(text("host"), text("socket")))
	missing("timeout.leg", "5s")
	missing("timeout.total", "30s")
	if text("user") == "" {
		wrong("user", "The setting user is missing: it says whom to log in as.")
	}
	if text("socket") != "" && text("tls.mode") != "off" {
		wrong("tls.mode", "A socket is never encrypted: both ends are on this machine. Leave tls out, or use a host.")
	}
	if (text("tls.cert") == "") != (text("tls.key") == "") {
		wrong("tls.cert", "A client certificate and its key go together: set both tls cert and key.")
	}
	if text("tls.mode") == "off" {
		for _, part := range []string{"tls.ca", "tls.cert", "tls.key", "tls.server-name"} {
			if text(part) != "" {
				wrong(part, "The setting %s has no use while tls mode is off, and off was %s. Set tls mode to verify.", part, said(values["tls.mode"].Origin))
				break
			}
		}
	}
	for _, setting := range values.Names() {
		value := values[setting]
		if key, ok := strings.CutPrefix(setting, "labels."); ok {
			e.Labels[key] = value.Text
		}
		if key, ok := strings.CutPrefix(setting, "options."); ok {
			if err := info.CheckOption(key); isKnown && err != nil {
				wrong(setting, "The option %s cannot be set: %v.", quoted(key), err)
			}
			e.Options[key] = value.Text
		}
	}

	e.Engine, e.Host, e.Socket = text("engine"), text("host"), place(values["socket"])
	e.Port, _ = strconv.Atoi(text("port"))
	e.Database, e.User, e.Role, e.Note = text("database"), text("user"), text("role"), text("note")
	e.Secret, _ = secret.ParseReference(text("secret"))
	if e.Secret.Kind == secret.File || e.Secret.Kind == secret.Credentials && e.Secret.Of != "" {
		e.Secret.Of = place(Value{Text: e.Secret.Of, Origin: values["secret"].Origin})
	}
	if e.Secret.Kind == secret.Command && strings.ContainsAny(e.Secret.Args[0], `/\`) {
		e.Secret.Args[0] = place(Value{Text: e.Secret.Args[0], Origin: values["secret"].Origin})
	}
	e.TLS = target.TLS{Mode: text("tls.mode"), CA: place(values["tls.ca"]), Cert: place(values["tls.cert"]), Key: place(values["tls.key"]), ServerName: text("tls.server-name")}
	e.OnOpen = values["on-open"].List
	for _, name := range values["login-methods"].List {
		method := info.Method(name)
		if isKnown && method == "" {
			wrong("login-methods", "The login method %s is none of %s: it has %s.", quoted(name), info.Title, strings.Join(info.Methods, ", "))
		}
		e.LoginMethods = append(e.LoginMethods, method)
	}
	e.SocketOwner = text("socket-owner")
	e.Leg, _ = time.ParseDuration(text("timeout.leg"))
	e.Total, _ = time.ParseDuration(text("timeout.total"))
	return e
}

func said(o Origin) string {
	if o.Layer == "default" {
		return "the default for this host"
	}
	return "said in " + o.String()
}

// place makes a path absolute: "~" is the home folder, and a relative path starts at the file that says it,
// or at the current folder.
func place(v Value) string {
	path := v.Text
	if path == "" {
		return ""
	}
	if rest, ok := strings.CutPrefix(path, "~"); ok && (rest == "" || rest[0] == '/' || rest[0] == filepath.Separator) {
		if home, err := files.Home(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if !filepath.IsAbs(path) && v.Origin.File != "" {
		path = filepath.Join(filepath.Dir(v.Origin.File), path)
	}
	if absolute, err := filepath.Abs(path); err == nil {
		return absolute
	}
	return path
}

// PathOf gives the absolute path that a setting of a path stands for.
func PathOf(v Value) string { return place(v) }

// defaultMode decides by what is written, never by resolving a name.
func defaultMode(host, socket string) string {
	if socket != "" || Loopback(host) {
		return "off"
	}
	return "verify"
}

// Loopback tells whether a host, as written, is this machine's own: localhost, 127.0.0.0/8 or ::1.
func Loopback(host string) bool { return target.Literal(strings.ToLower(host)) }

// Target gives whom the profile talks to and how: what a kept secret must be bound to, to be used for it.
func (e Effective) Target() target.Target {
	return target.Target{User: e.User, TLS: e.TLS.Mode,
		Endpoint: target.Endpoint{Host: strings.ToLower(e.Host), Port: e.Port, Socket: e.Socket, Database: e.Database}}
}

// Place gives where the profile leads, for people: "127.0.0.1:5432" or a socket's path.
func (e Effective) Place() string {
	return target.Endpoint{Host: e.Host, Port: e.Port, Socket: e.Socket}.Place()
}
