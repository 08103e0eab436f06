package profile

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Effective is a profile as it counts: every value decided, typed, and with its origin in Values.
type Effective struct {
	Name   string // the profile's name, "" for a connection string that is not saved
	Engine string
	Host   string // as written; "" when Socket is set
	Port   int
	Socket string
	// Alias is the alias that says where the server is, "" for none: its name, with "project:"
	// before a project's. Then Host, Port and Socket say nothing, and Addresses or SRV do.
	Alias     string
	Addresses []target.Address
	SRV       string
	Pick      string // "in-order" or "random"
	Wants     string // "primary", "replica", or "" for either
	// Contained is the container that says where the server is; its zero value for none. Then
	// Host and Socket say nothing, and Port is the one inside.
	Contained target.Contained
	// Found is which container it was, where it was looked up.
	Found target.Definition
	// Clouded is the cloud's server that the profile names; its zero value for none. Then Host,
	// Port and Socket say nothing before the cloud was asked (see [Effective.At]). CloudAt is the
	// cloud, as the user's own account says, and Server the server's id there, "" before it is
	// known.
	Clouded target.Clouded
	CloudAt files.Cloud
	Server  string
	// AliasAt is where the alias is said, AliasOthers where else one of its name is, which does
	// not count.
	AliasAt     Origin
	AliasOthers []string
	Database    string // the service, where Served says that it is one
	Instance    string // what a listener is asked for instead of a service, "" for none
	Served      bool   // a listener is asked for a service or an instance
	User        string
	Role        string
	Secret      secret.Reference
	TLS         target.TLS
	// Via are the hops on the way, the first one first.
	Via []target.Hop
	// LoginMethods are the only login methods to accept, by the engine's names; empty for all
	// that it has.
	LoginMethods []string
	Pooled       string        // what is said of a pooler: "no", "session", "transaction", or "" to find it out
	SocketOwner  string        // the account whose server may be behind the socket, "" for the usual ones
	Leg          time.Duration // the longest one leg may take
	Total        time.Duration // the longest all may take
	Ask          time.Duration // the longest a person or an agent may take; 0 where no hop asks
	Options      map[string]string
	OnOpen       []string
	Guard        string // none, confirm or read-only
	Labels       map[string]string
	Note         string
	// Values has every effective setting that is not "none", with its origin.
	Values Layer
	// Under has the values that others hide, nearest first.
	Under map[string][]Value
	// Problems lists what is missing or does not fit together; a profile with any cannot connect.
	Problems []Problem

	// ProjectAuthority is the digest (SHA-256, in hexadecimal digits) of the file tls.ca where
	// that is a project's, as it was agreed to.
	ProjectAuthority string

	world     files.World
	aliases   Aliases
	authority string // the digest of the authority's file, where an alias has one
	// address is where to connect while Host is the name to verify, in what is exported for a door
	address string
	alone   bool // the host is a door: the server's other names lead past it
	records bool // the host is a name whose SRV records say where the servers are
}

// Resolve decides every setting from layers, highest first, and the engine's defaults, checks
// what was decided, and gives the typed form. The world says what "~" means.
func Resolve(world files.World, name string, layers ...Layer) Effective {
	return resolve(world, nil, name, layers)
}

func resolve(world files.World, aliases Aliases, name string, layers []Layer) Effective {
	layers, others, problem := withAlias(aliases, layers)
	far := func() bool { return world.Far != nil && world.Far() }
	d := decide(layers, slices.ContainsFunc(layers, func(l Layer) bool { return l["container"].Text != "" }) && far())
	e := d.Profile(world, name)
	e.aliases, e.AliasOthers = aliases, others
	e.Problems = d.Check()
	if e.InCloud() && world.Cloud != nil {
		var wrong string
		if e.CloudAt, wrong = world.Cloud(e.Clouded.Account); wrong != "" {
			e.Problems = append([]Problem{{Code: finding.CloudAccountUnknown, Setting: "cloud", Text: wrong,
				Origin: e.Values["cloud"].Origin}}, e.Problems...)
		}
	}
	if problem != nil {
		e.Problems = append([]Problem{*problem}, e.Problems...)
	}
	return e
}

// Profile gives decided values in their typed form.
func (d Decided) Profile(world files.World, name string) Effective {
	values, text := d.Values, d.text
	info, _ := d.info()
	e := Effective{world: world, Name: name, Values: values, Under: d.Under, Options: map[string]string{},
		Labels: map[string]string{}}
	for setting, value := range values {
		if key, ok := strings.CutPrefix(setting, "labels."); ok {
			e.Labels[key] = value.Text
		}
		if key, ok := strings.CutPrefix(setting, "options."); ok {
			e.Options[key] = value.Text
		}
	}
	e.Engine, e.Host, e.Socket = text("engine"), text("host"), e.path(values["socket"])
	if e.Port, _ = strconv.Atoi(text("port")); e.Socket != "" && e.Port != 0 {
		// With a port, the path is the folder of the sockets.
		e.Socket, e.Port = filepath.Join(e.Socket, info.SocketFile+text("port")), 0
	}
	e.place(d)
	e.Contained, _ = ParseContainer(text("container"))
	e.Clouded, _ = ParseCloud(text("cloud"))
	e.Database, e.User, e.Role, e.Note = text("database"), text("user"), text("role"), text("note")
	if e.Served = info.Serves; e.Served {
		e.Database, e.Instance = cmp.Or(text("service"), e.Database), text("instance")
	}
	e.Secret, _ = secret.ParseReference(text("secret"))
	if e.Secret.Kind == secret.File || e.Secret.Kind == secret.Credentials && e.Secret.Of != "" {
		e.Secret.Of = e.path(Value{Text: e.Secret.Of, Origin: values["secret"].Origin})
	}
	if e.Secret.Kind == secret.Command && strings.ContainsAny(e.Secret.Args[0], `/\`) {
		e.Secret.Args[0] = e.path(Value{Text: e.Secret.Args[0], Origin: values["secret"].Origin})
	}
	e.TLS = target.TLS{Mode: text("tls.mode"), CA: e.path(values["tls.ca"]), Cert: e.path(values["tls.cert"]),
		Key: e.path(values["tls.key"]), ServerName: text("tls.server-name")}
	e.OnOpen, e.Guard = values["on-open"].List, text("guard")
	for _, name := range values["login-methods"].List {
		e.LoginMethods = append(e.LoginMethods, info.Method(name))
	}
	e.SocketOwner, e.Pooled = text("socket-owner"), text("pooled")
	e.Leg, _ = time.ParseDuration(text("timeout.leg"))
	e.Total, _ = time.ParseDuration(text("timeout.total"))
	e.Ask, _ = time.ParseDuration(text("timeout.ask"))
	e.Via = d.hops(e.path)
	if e.Alias != "" && e.TLS.CA != "" {
		e.authority = "unreadable"
		if data, err := files.Read(e.TLS.CA, 4<<20); err == nil {
			sum := sha256.Sum256(data)
			e.authority = hex.EncodeToString(sum[:])
		}
	}
	return e
}

// Over gives the profile with a layer over what was decided.
func (e Effective) Over(layer Layer) Effective {
	over := resolve(e.world, e.aliases, e.Name, []Layer{layer, e.Values})
	over.ProjectAuthority = e.ProjectAuthority
	if over.Alias == e.Alias {
		over.AliasOthers = e.AliasOthers
	}
	return over
}

// path gives the absolute path that a value means; see [PathOf].
func (e Effective) path(v Value) string { return PathOf(e.world, v) }

// PathOf gives the absolute path that a setting of a path means: "~" is the home folder, and a
// relative path starts at the file that says it, or at the current folder. It is "" for an empty
// value.
func PathOf(world files.World, v Value) string {
	if v.Text == "" {
		return ""
	}
	from := ""
	if v.Origin.File != "" {
		from = filepath.Dir(v.Origin.File)
	}
	return world.Absolute(v.Text, from)
}

// Loopback reports whether a host, as written, is this machine's own: localhost, 127.0.0.0/8 or
// ::1.
func Loopback(host string) bool { return target.Literal(strings.ToLower(host)) }

// Seen gives the profile with the targets that the SRV records of its alias name now: they are a
// part of what the alias stands for.
func (e Effective) Seen(targets []target.Address) Effective {
	e.Addresses = targets
	return e
}

// Target gives the server that the profile talks to and how: what a kept secret must be bound to,
// to be used for it.
func (e Effective) Target() target.Target {
	t := target.Target{User: e.User, TLS: e.TLS.Mode,
		Endpoint: target.Endpoint{Host: strings.ToLower(e.Host), Port: e.Port, Socket: e.Socket, Alias: e.Alias,
			Database: e.within()}}
	for _, hop := range e.Via {
		t.Hops = append(t.Hops, hop.String())
	}
	if e.InContainer() {
		t.Endpoint = target.Endpoint{Container: e.Contained.Words(), Port: e.InsidePort(), Database: e.within()}
		t.Defined = e.Found
	}
	if e.InCloud() {
		t.Endpoint = target.Endpoint{Cloud: e.cloudPlace(), Database: e.within()}
	}
	if e.Alias != "" {
		digest := e.authority
		if e.ProjectAuthority != "" {
			digest = e.ProjectAuthority
		}
		t.Defined = target.Define(e.Addresses, e.SRV, e.TLS, digest, t.Hops)
	}
	if t.TLS != "verify" {
		return t
	}
	theirs := e.Values["tls.ca"].Origin.Project != ""
	switch {
	case e.TLS.CA == "":
	case !theirs:
		t.Authority = e.TLS.CA
	case e.ProjectAuthority != "":
		t.Authority = "sha256:" + e.ProjectAuthority
	}
	if !strings.EqualFold(e.TLS.ServerName, e.Host) || e.InCloud() {
		t.ServerName = strings.ToLower(e.TLS.ServerName)
	}
	t.Strange = theirs || e.Values["tls.server-name"].Origin.Project != ""
	return t
}

// within gives the part of a target that says what is opened there.
func (e Effective) within() string {
	if e.Instance != "" {
		return target.InstancePrefix + e.Instance
	}
	return e.Database
}

// Opens words what is opened at the server, "" for nothing: "database bunkhouse", "service
// census", "instance CENSUS".
func (e Effective) Opens() string {
	switch {
	case e.Instance != "":
		return "instance " + e.Instance
	case e.Database == "":
		return ""
	case e.Served:
		return "service " + e.Database
	}
	return "database " + e.Database
}

// ToStore gives what a secret for the profile is stored for: its target without the database,
// since all databases of a server have the same accounts; but the very service that a listener is
// asked for, since each leads to a database with accounts of its own.
func (e Effective) ToStore(to target.Target) target.Target {
	if !e.Served {
		to.Database = ""
	}
	return to
}

// Behind says through which hops the profile leads, for people: "" without any.
func (e Effective) Behind() string {
	names := make([]string, len(e.Via))
	for i, hop := range e.Via {
		names[i] = hop.String()
	}
	return strings.Join(names, ", ")
}

// Place gives where the profile leads, for people: "127.0.0.1:5432" or a socket's path.
func (e Effective) Place() string {
	if e.InContainer() {
		return target.Endpoint{Container: e.Contained.Words(), Port: e.Contained.Port}.Place()
	}
	if e.InCloud() {
		return target.Endpoint{Cloud: e.Clouded.String()}.Place()
	}
	return target.Endpoint{Host: e.Host, Port: e.Port, Socket: e.Socket, Alias: e.Alias}.Place()
}
