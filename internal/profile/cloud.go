package profile

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// cloudKeys are the keys of a cloud's server that is written as a map, in the order in which they
// are shown.
var cloudKeys = []string{"account", "server", "replica", "address"}

// ParseCloud reads a cloud's server as the setting has it: ACCOUNT/SERVER, or a map in braces
// with the keys account, server, copy and address. An empty text is no server.
func ParseCloud(text string) (target.Clouded, error) {
	if text == "" {
		return target.Clouded{}, nil
	}
	if !strings.HasPrefix(strings.TrimSpace(text), "{") {
		return target.ParseClouded(text)
	}
	parts, err := inBraces(text, "a cloud's server",
		"ACCOUNT/SERVER, or a map such as {account: fellside, server: bunkhouse, replica: reports, address: private}")
	if err != nil {
		return target.Clouded{}, err
	}
	return cloudOf(parts)
}

func cloudOf(parts map[string]string) (target.Clouded, error) {
	for name := range parts {
		if slices.Contains(cloudKeys, name) {
			continue
		}
		if name == "copy" {
			return target.Clouded{}, fmt.Errorf("%s is no part of a cloud's server; a copy is its replica: "+
				"{account: fellside, server: bunkhouse, replica: reports}",
				quoted(name))
		}
		if near := Nearest(name, cloudKeys); near != "" {
			return target.Clouded{}, fmt.Errorf("%s is no part of a cloud's server; did you mean %s?", quoted(name), near)
		}
		return target.Clouded{}, fmt.Errorf("%s is no part of a cloud's server; it has %s", quoted(name),
			strings.Join(cloudKeys, ", "))
	}
	return target.NewClouded(target.Clouded{Account: parts["account"], Server: parts["server"],
		Replica: parts["replica"], Address: parts["address"]})
}

// CloudText writes a cloud's server as ParseCloud reads it: short where that says all, else as a
// map in braces.
func CloudText(c target.Clouded) string {
	if c.Replica == "" && c.Address == "" {
		return c.String()
	}
	return braces(cloudKeys, map[string]string{"account": c.Account, "server": c.Server, "replica": c.Replica,
		"address": c.Address})
}

func checkCloud(text string) error {
	_, err := ParseCloud(text)
	return err
}

// InCloud reports whether a cloud says where the server is.
func (e Effective) InCloud() bool { return e.Clouded != target.Clouded{} }

// TakesLogin reports whether the user comes with the secret, so that a profile need not say one.
func (e Effective) TakesLogin() bool { return e.Secret.Kind == secret.Cloud }

// NobodyLogsIn reports whether the profile needs no user: it sends no password, and its kind of
// server may know no accounts.
func (e Effective) NobodyLogsIn() bool {
	of := known.Engine(e.Engine)
	return e.User == "" && of != nil && nobody(of.Info(), string(e.Secret.Kind))
}

// Located is where a cloud says that a server is.
type Located struct {
	ID   string // the server's id at the cloud
	Host string
	Port int
}

// At gives the profile with what its cloud says now. Its secrets are kept for the server's id.
func (e Effective) At(l Located) Effective {
	e.Server = l.ID
	e.Host, e.Port = l.Host, l.Port
	return e
}

// cloudPlace gives what a secret for the server is kept for. Before the cloud has said which
// server it is, it is a place that nothing is kept for.
func (e Effective) cloudPlace() string {
	if e.Server == "" {
		return "?" + e.Clouded.Server + "@" + target.Endpoint{Host: e.CloudAt.Host, Port: e.CloudAt.Port}.Place()
	}
	return target.CloudPlace(e.Server, e.CloudAt.Host, e.CloudAt.Port)
}

// Outside gives a cloud's profile as one with a host, a port and an authority, for programs that
// know of no cloud. Ca is the path of the authority's certificates, "" for the one that the
// profile names, or the system's; name is the one in the server's certificate.
func (e Effective) Outside(at Located, ca, name string) Effective {
	from := e.Values["cloud"].Origin
	e.Values = maps.Clone(e.Values)
	delete(e.Values, "cloud")
	put := func(setting, text string) { e.Values[setting] = Value{Text: text, Origin: from} }
	e.Clouded, e.Server, e.Host, e.Port = target.Clouded{}, "", at.Host, at.Port
	put("host", at.Host)
	put("port", strconv.Itoa(at.Port))
	if ca != "" {
		e.TLS.CA = ca
		put("tls.ca", ca)
	}
	if e.TLS.ServerName == "" && name != at.Host {
		e.TLS.ServerName = name
		put("tls.server-name", name)
	}
	return e
}
