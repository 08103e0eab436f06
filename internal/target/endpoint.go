package target

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// addressLike reports whether a host may be an address rather than a name, without trying.
func addressLike(host string) bool {
	return host != "" && (host[0] >= '0' && host[0] <= '9' || strings.IndexByte(host, ':') >= 0)
}

// IsZone reports whether a text can be the zone of an IPv6 address (RFC 4007, section 11):
// nothing, or the name of a network interface, of letters, digits and . _ - and at most 15 bytes.
func IsZone(zone string) bool {
	return len(zone) <= 15 && !strings.ContainsFunc(zone, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("._-", r)
	})
}

// isAddress reports whether a text is an address, with a zone that [IsZone] allows.
func isAddress(text string) bool {
	addr, err := netip.ParseAddr(text)
	return err == nil && IsZone(addr.Zone())
}

// InstancePrefix is what begins an [Endpoint].Database that is an instance of a listener's.
const InstancePrefix = "instance:"

// inside words what an endpoint's database is.
func inside(database string) string {
	if name, is := strings.CutPrefix(database, InstancePrefix); is {
		return "the instance " + name
	}
	if database == "" {
		return "none"
	}
	return "the database " + database
}

// The services of a target that is no database's, whose is "": SSH is a hop's, CloudKey that of
// the key to a cloud account's sign-in.
const (
	SSH      = "ssh"
	CloudKey = "cloud-key"
)

// Endpoint is a place that a secret is kept for, as it is written: names are not looked up, and
// localhost, 127.0.0.1 and a socket are three places.
type Endpoint struct {
	// Host is a name or an address in lower case; "*.fellside.example" stands for every name below
	// fellside.example. It is "" where Socket is set.
	Host string `json:"host,omitempty"`
	// Port is 0 for any port of the host.
	Port   int    `json:"port,omitempty"`
	Socket string `json:"socket,omitempty"`
	// Alias is the alias that stands instead of a host or a socket; a project's begins with
	// "project:".
	Alias string `json:"alias,omitempty"`
	// Container is the container that stands instead of a host, as [Contained.Words] gives it;
	// Port is then the one inside.
	Container string `json:"container,omitempty"`
	// Cloud is the server of a cloud that is instead of a host, as [CloudPlace] writes it: its id
	// there, and the cloud.
	Cloud string `json:"cloud,omitempty"`
	// Database is "" for every database there. It is the service where a listener is asked for
	// one, and [InstancePrefix] with a name for an instance.
	Database string `json:"database,omitempty"`
}

// Target is the server that a connection talks to, and how: the user that it logs in as, where,
// through which hops, and encrypted how. A kept secret is bound to one, and is sent to no other.
type Target struct {
	User string `json:"user"`
	// Service is what is logged in to: "" for a database, [SSH] for a hop, [CloudKey] for a
	// cloud. What is kept for one never serves the other.
	Service string `json:"service,omitempty"`
	Endpoint
	Hops []string `json:"hops,omitempty"`
	// TLS is "off", "encrypt" or "verify". In what is kept it is the weakest that the secret may
	// travel with.
	TLS string `json:"tls"`
	// Authority is who is trusted to say that the server is the right one, where TLS is "verify"
	// and it is not the system's: the path of the user's own file of certificates, or "sha256:"
	// and the digest of a project's.
	Authority string `json:"authority,omitempty"`
	// ServerName is the name that the certificate must hold, where it is not the host.
	ServerName string `json:"server_name,omitempty"`
	// Defined is how the alias was defined, where Alias is set, or which container it was, where
	// Container is.
	Defined Definition `json:"defined,omitzero"`
	// Later says that the container is not looked up yet: Defined is compared by who asked,
	// before anything is sent.
	Later bool `json:"-"`
	// Strange says that a project chose the authority or the name. It is of a connection, never
	// of what is kept.
	Strange bool `json:"-"`
}

// SameTrust reports whether two targets trust the same authority for the same name.
func (w Target) SameTrust(other Target) bool {
	return w.Authority == other.Authority && w.ServerName == other.ServerName
}

// Literal reports whether a host is one of the literals for this machine: localhost, 127.0.0.0/8
// or ::1. The default of encryption and warnings go by it. It is narrower than
// [Target.OnThisMachine]: a name below localhost gets no default without encryption.
func Literal(host string) bool {
	if host == "localhost" || !addressLike(host) {
		return host == "localhost"
	}
	addr, err := netip.ParseAddr(host)
	return err == nil && addr.Unmap().IsLoopback()
}

// WeakestTLS gives the weakest encryption that a secret for an endpoint may travel with when
// nobody says anything: none on this machine, a verified one to any other.
func (e Endpoint) WeakestTLS() string {
	if e.Socket != "" || e.Container != "" || e.Alias == "" && Literal(e.Host) {
		return "off"
	}
	return "verify"
}

// ParseEndpoint reads HOST[:PORT][/DATABASE] or the path of a socket. An IPv6 address with a port
// is in brackets; *.SUFFIX stands for every name below a suffix of at least two parts.
func ParseEndpoint(text string) (Endpoint, error) {
	var e Endpoint
	if name, is := strings.CutPrefix(text, "alias:"); is {
		if e.Alias, e.Database, _ = strings.Cut(name, "/"); !isAlias(e.Alias) || !IsVisible(e.Database) ||
			strings.HasSuffix(name, "/") {
			return e, fmt.Errorf("an alias is written alias:NAME, or alias:NAME/DATABASE")
		}
		return e, nil
	}
	if name, is := strings.CutPrefix(text, "container:"); is {
		name, e.Database, is = strings.Cut(name, "/")
		c, err := ParseContained(name)
		if e.Container, e.Port = c.Words(), c.Port; err == nil && (is && e.Database == "" || !IsVisible(e.Database)) {
			err = fmt.Errorf("a container is written container:NAME, or container:NAME:PORT/DATABASE")
		}
		return e, err
	}
	if place, is := strings.CutPrefix(text, "cloud:"); is {
		place, e.Database, is = strings.Cut(place, "/")
		id, origin, _ := strings.Cut(place, "@")
		at, err := ParseEndpoint(origin)
		if e.Cloud = id + "@" + at.Place(); err != nil || !IsCloudWord(id) || at.Host == "" ||
			strings.HasPrefix(at.Host, "*") || is && e.Database == "" || !IsVisible(e.Database) {
			return Endpoint{}, fmt.Errorf("a cloud's server is written cloud:ID@CLOUD, or cloud:ID@CLOUD:PORT/DATABASE")
		}
		return e, nil
	}
	if strings.HasPrefix(text, "/") {
		if !IsVisible(text) {
			return e, fmt.Errorf("the path of the socket has a character that cannot be seen")
		}
		e.Socket = text
		return e, nil
	}
	place := text
	if cut := strings.IndexByte(text, '/'); cut >= 0 {
		if place, e.Database = text[:cut], text[cut+1:]; e.Database == "" || !IsVisible(e.Database) {
			return e, fmt.Errorf("a database is missing behind the slash")
		}
	}
	host, port := place, ""
	colon := strings.IndexByte(place, ':')
	if inside, ok := strings.CutPrefix(place, "["); ok {
		var after string
		if host, after, ok = strings.Cut(inside, "]"); !ok || after != "" && after[0] != ':' {
			return e, fmt.Errorf("an IPv6 address with a port is written [ADDRESS]:PORT")
		}
		if !isAddress(host) {
			return e, fmt.Errorf("there is no address between the brackets")
		}
		port = strings.TrimPrefix(after, ":")
		if after == ":" {
			return e, fmt.Errorf("a port is missing behind the colon")
		}
	} else if colon >= 0 && strings.IndexByte(place[colon+1:], ':') < 0 {
		host, port = place[:colon], place[colon+1:]
		if port == "" {
			return e, fmt.Errorf("a port is missing behind the colon")
		}
	}
	if port != "" {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 || port[0] < '1' || port[0] > '9' {
			return e, fmt.Errorf("a port is a whole number from 1 to 65535")
		}
		e.Port = n
	}
	e.Host = host
	capital, err := checkHost(host)
	if capital {
		e.Host = strings.ToLower(host)
	}
	return e, err
}

// checkHost says what is wrong with a host, and whether it has capital letters.
func checkHost(host string) (capital bool, err error) {
	name, pattern := strings.CutPrefix(host, "*.")
	if addressLike(host) {
		if isAddress(host) {
			return host != strings.ToLower(host), nil
		}
	}
	switch {
	case host == "*" || pattern && !strings.Contains(strings.Trim(name, "."), "."):
		return capital, fmt.Errorf("a pattern ends in a name of at least two parts, as in *.fellside.example; a " +
			"wider one would give the password to too many")
	case name == "" || len(name) > 253 || strings.ContainsAny(name, "*:"):
		return capital, fmt.Errorf("a host is missing, or is no name or address")
	}
	length := 0 // of the part so far
	for i := range len(name) {
		switch c := name[i]; {
		case c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_':
			length++
		case c >= 'A' && c <= 'Z':
			length++
			capital = true
		case c == '.' && length > 0:
			length = 0
		default:
			return capital, fmt.Errorf("a host is a name or an address")
		}
		if length > 63 {
			return capital, fmt.Errorf("a part of a host's name is longer than 63 characters")
		}
	}
	return capital, nil
}

// IsVisible reports whether a text can be shown and stands on one line.
func IsVisible(text string) bool {
	if IsSimple(text) {
		return true
	}
	return utf8.ValidString(text) && !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// IsSimple reports whether a quoted text has nothing in it that could be wrong.
func IsSimple(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '\\' {
			return false
		}
	}
	return true
}

// Place gives the endpoint without its database: "db.fellside.example:5432", or a socket's path.
func (e Endpoint) Place() string {
	switch {
	case e.Alias != "":
		return "alias:" + e.Alias
	case e.Container != "" && e.Port != 0:
		return "container:" + e.Container + ":" + strconv.Itoa(e.Port)
	case e.Container != "":
		return "container:" + e.Container
	case e.Cloud != "":
		return "cloud:" + e.Cloud
	case e.Socket != "":
		return e.Socket
	case e.Port == 0:
		return e.Host
	case strings.Contains(e.Host, ":"):
		return "[" + e.Host + "]:" + strconv.Itoa(e.Port)
	}
	return e.Host + ":" + strconv.Itoa(e.Port)
}

// String gives the endpoint as ParseEndpoint reads it, but for a socket's database, which follows
// a space.
func (e Endpoint) String() string {
	switch {
	case e.Database == "":
		return e.Place()
	case e.Socket != "":
		return e.Socket + " " + e.Database
	}
	return e.Place() + "/" + e.Database
}

// Key is the same for what would take each other's place: one user at one endpoint through the
// same hops.
func (w Target) Key() string {
	return strings.Join(append([]string{w.Service, w.User, w.Host, strconv.Itoa(w.Port), w.Socket,
		w.Endpoint.Alias, w.Endpoint.Container, w.Endpoint.Cloud, w.Database}, w.Hops...), "\x00")
}

// Strength orders encryption from none to verified.
func Strength(mode string) int { return slices.Index([]string{"off", "encrypt", "verify"}, mode) }

// Covers reports whether a kept host, or a pattern, stands for a target's.
func Covers(kept, host string) bool {
	if suffix, pattern := strings.CutPrefix(kept, "*"); pattern {
		return len(host) > len(suffix) && strings.HasSuffix(host, suffix)
	}
	return kept == host
}

// Differs lists why what is stored for w does not serve for a target, empty when it does. The
// lines show the users and places of both.
func (w Target) Differs(dest Target) []string {
	var lines []string
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if w.Service != dest.Service {
		say("it is stored for %s, and this is %s", service(w.Service), service(dest.Service))
	}
	if w.User != dest.User {
		say("it is stored for the user %s, and this connection logs in as %s", w.User, dest.User)
	}
	switch {
	case w.Endpoint.Cloud != "" && dest.Later && afterAt(w.Endpoint.Cloud) == afterAt(dest.Endpoint.Cloud): // whoever asked compares it when the server is found
	case w.Endpoint.Cloud != dest.Endpoint.Cloud, w.Endpoint.Alias != dest.Endpoint.Alias,
		w.Endpoint.Container != dest.Endpoint.Container,
		w.Endpoint.Container != "" && w.Port != 0 && w.Port != dest.Port:
		say("it is stored for %s, and this connection goes to %s", w.Place(), dest.Place())
	case w.Endpoint.Container != "":
		lines = append(lines, w.changed(dest)...)
	case w.Endpoint.Alias != "":
		lines = append(lines, w.Moved(dest)...)
	case w.Socket != dest.Socket, w.Socket == "" && !Covers(w.Host, dest.Host), w.Port != 0 && w.Port != dest.Port:
		say("it is stored for %s, and this connection goes to %s", w.Place(), dest.Place())
	}
	if w.Database != "" && w.Database != dest.Database {
		say("it is stored for %s, and this connection opens %s", inside(w.Database),
			strings.TrimPrefix(inside(dest.Database), "the database "))
	}
	if !slices.Equal(w.Hops, dest.Hops) {
		say("it is stored for the route %s, and this connection goes %s", hops(w.Hops), hops(dest.Hops))
	}
	if Strength(dest.TLS) < Strength(w.TLS) {
		say("it may travel only %s, and here it would travel %s", Travel[w.TLS], Travel[dest.TLS])
	}
	// What may travel unverified is not kept back for those who are trusted to verify. An entry
	// that names no authority serves the system's and the user's own, never one that a project
	// brought.
	if named := w.Authority != "" || w.ServerName != ""; w.TLS == "verify" && dest.TLS == "verify" &&
		(named && !w.SameTrust(dest) || !named && dest.Strange) {
		say("it is for a server that is verified by %s, and this one would be verified by %s", w.trust(), dest.trust())
	}
	return lines
}

func service(name string) string {
	switch name {
	case SSH:
		return "a login by SSH"
	case CloudKey:
		return "the key of a cloud account's sign-in"
	}
	return "a database"
}

// trust words whose certificate is trusted, and for which name.
func (w Target) trust() string {
	who := "the system's authorities"
	switch {
	case strings.HasPrefix(w.Authority, "sha256:"), w.Authority == "" && w.Strange:
		who = "an authority of a project"
	case w.Authority != "":
		who = "the authorities in " + w.Authority
	}
	if w.ServerName != "" {
		who += " for the name " + w.ServerName
	}
	return who
}

// Travel words the modes of encryption.
var Travel = map[string]string{"off": "without encryption",
	"encrypt": "encrypted, with the server's identity unchecked",
	"verify":  "encrypted to a server whose identity was checked"}

func hops(list []string) string {
	if len(list) == 0 {
		return "without hops"
	}
	return "through " + strings.Join(list, ", ")
}

// Specific orders what is kept: by host, then by port, then by database, then by whether an
// authority or a name is said. More is more specific.
func (w Target) Specific() [4]int {
	var s [4]int
	s[0] = 1 << 20
	if suffix, pattern := strings.CutPrefix(w.Host, "*"); pattern {
		s[0] = len(suffix)
	}
	for i, said := range []bool{w.Port != 0, w.Database != "", w.Authority != "" || w.ServerName != ""} {
		if said {
			s[i+1] = 1
		}
	}
	return s
}

func isAlias(name string) bool {
	name = strings.TrimPrefix(name, "project:")
	return name != "" && len(name) <= 128 && name[0] != '-' && name[0] != '.' &&
		!strings.ContainsFunc(name, func(r rune) bool {
			return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("._-", r)
		})
}

// Moved says what of the alias is otherwise in a target than when w was kept, none when nothing
// is that matters: an address less is no trouble.
func (w Target) Moved(dest Target) []string {
	var lines []string
	switch {
	case w.Defined.How == "":
		return []string{"it does not say how the alias " + w.Endpoint.Alias + " was defined when it was stored"}
	case w.Defined.How != dest.Defined.How:
		lines = append(lines, "the encryption, the authority, the server's name or the hops of the alias "+w.Endpoint.Alias+" have changed since it was stored")
	}
	fresh := 0
	for _, each := range dest.Defined.Addresses {
		if !slices.Contains(w.Defined.Addresses, each) {
			fresh++
		}
	}
	if fresh > 0 || len(dest.Defined.Addresses) == 0 {
		lines = append(lines, "the alias "+w.Endpoint.Alias+" has "+map[bool]string{true: "an address",
			false: strconv.Itoa(fresh) + " addresses"}[fresh == 1]+" that it did not have when it was stored")
	}
	return lines
}

// changed says what of a container is otherwise than when w was kept.
func (w Target) changed(dest Target) []string {
	switch {
	case dest.Later:
		return nil // whoever asked compares it when the container is found
	case dest.Defined.How == "":
		return []string{"the container " + w.Container + " is not found here, so nobody can say that it is the one"}
	case w.Defined.How == "":
		return []string{"it does not say which image the container " + w.Container + " had when it was stored"}
	case w.Defined.String() == dest.Defined.String():
		return nil
	case len(w.Defined.Addresses) != len(dest.Defined.Addresses):
		return []string{"what the container " + w.Container +
			" was is noted in an older form, which does not say all that is compared today"}
	}
	return w.Defined.changes(dest.Defined, "the container "+w.Container, "when it was stored")
}

// ContainerChanges says in which parts a container's definition is otherwise than it was at a
// time, such as "at the last good test".
func (d Definition) ContainerChanges(now Definition, title, when string) []string {
	if len(d.Addresses) != len(now.Addresses) {
		return nil // it was noted in another form
	}
	return d.changes(now, title, when)
}

// changes says in which parts a container's definition is otherwise than before.
func (d Definition) changes(now Definition, title, when string) []string {
	var lines []string
	if d.How != now.How {
		lines = append(lines, title+" has another image now than "+when)
	}
	for i, words := range []string{"is at another container engine",
		"is of another Compose project, or of one in another folder", "starts with another entrypoint or command"} {
		if i >= len(d.Addresses) || i >= len(now.Addresses) || d.Addresses[i] != now.Addresses[i] {
			lines = append(lines, title+" "+words+" than "+when)
		}
	}
	return lines
}

// afterAt gives the cloud of a place at one.
func afterAt(place string) string {
	_, cloud, _ := strings.Cut(place, "@")
	return cloud
}

// CloudPlace writes a server of a cloud as what a secret is kept for: its id at the cloud, and
// the cloud's host and port. The names that a person gave to the account and the server are not
// in it. Replicas have the accounts of their server, and so its place.
func CloudPlace(id, host string, port int) string {
	return id + "@" + Endpoint{Host: strings.ToLower(host), Port: port}.Place()
}
