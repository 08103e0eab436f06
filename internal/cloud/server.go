package cloud

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// clip shortens a text of the cloud's for a message.
func clip(text string) string { return outside.Short(outside.Said(text), 200) }

// Server is a database server of a cloud, as docs/cloud-api.yaml describes it.
type Server struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Engine  string `json:"engine"` // as a profile writes it, such as postgres
	Version string `json:"version,omitempty"`
	State   State  `json:"state"`
	Region  string `json:"region,omitempty"`
	// ProviderName is the name that the provider's own pages and programs know the server by, ""
	// for none.
	ProviderName string    `json:"provider_name,omitempty"`
	Addresses    []Address `json:"addresses"`
	// Authority has the certificates (PEM) of who verifies the server, "" for the system's
	// authorities. CertificateName is the name in the server's certificate, "" for its host.
	Authority       string    `json:"authority,omitempty"`
	CertificateName string    `json:"certificate_name,omitempty"`
	Replicas        []Replica `json:"replicas,omitempty"`
}

// State is what a server does. Other words than these are of a server that does not run.
type State string

// The states of a server.
const (
	Running  State = "running"
	Starting State = "starting" // also while it is made, changed or restored
	Stopping State = "stopping"
	Stopped  State = "stopped"
)

// Address is where a server or a copy can be reached.
type Address struct {
	Kind string `json:"kind"` // target.PublicAddress or target.PrivateAddress
	Host string `json:"host"`
	Port int    `json:"port"`
}

// Replica is a replica of a server, which follows it, and can be read from.
type Replica struct {
	Name            string    `json:"name"`
	State           State     `json:"state"`
	Region          string    `json:"region,omitempty"`
	Addresses       []Address `json:"addresses"`
	CertificateName string    `json:"certificate_name,omitempty"`
}

// check says what of a server is not as the description says.
func (s Server) check() error {
	switch {
	case !target.IsCloudWord(s.ID):
		return malformed("the id of a server is none: %s", clip(s.ID))
	case s.Name == "" || !shown(s.Name, 128) || !shown(s.Version, 64) || !shown(s.Region, 128) ||
		!shown(s.ProviderName, 256) || !shown(string(s.State), 64) || !shown(s.Engine, 64):
		return malformed("a text of the server %s is missing, too long, or cannot be shown", s.ID)
	case len(s.Authority) > maxPEM || len(s.Replicas) > 64:
		return malformed("the server %s has too large an authority, or too many replicas", s.ID)
	}
	lists := [][]Address{s.Addresses}
	names := []string{s.CertificateName}
	for _, each := range s.Replicas {
		if !target.IsCloudWord(each.Name) || !shown(string(each.State), 64) || !shown(each.Region, 128) {
			return malformed("the name of a replica of the server %s is none", s.ID)
		}
		lists, names = append(lists, each.Addresses), append(names, each.CertificateName)
	}
	for _, list := range lists {
		for _, a := range list {
			at, err := target.ParseEndpoint(a.Host)
			if err != nil || at.Host == "" || at.Port != 0 && netipFails(a.Host) || at.Database != "" ||
				a.Host[0] == '*' || a.Port < 1 || a.Port > 65535 || len(list) > 16 {
				return malformed("an address of the server %s is none: %s", s.ID, clip(fmt.Sprint(a.Host, " ", a.Port)))
			}
		}
	}
	for _, name := range names {
		if at, err := target.ParseEndpoint(name); name != "" && (err != nil || at.Place() != at.Host) {
			return malformed("the name in the certificate of the server %s is no host's", s.ID)
		}
	}
	return nil
}

func netipFails(host string) bool {
	_, err := netip.ParseAddr(host)
	return err != nil
}

func shown(text string, most int) bool { return len(text) <= most && outside.Clean(text) }

// Who says who is signed in, in the cloud's words. The error is a *finding.Problem.
func (c *Client) Who(ctx context.Context) (string, error) {
	var out struct {
		Name string `json:"name"`
	}
	if _, err := c.call(ctx, http.MethodGet, "/v1/account", nil, nil, &out); err != nil {
		return "", err
	}
	if !shown(out.Name, 256) {
		return "", c.fail(ctx, malformed("the name of the account cannot be shown"))
	}
	return out.Name, nil
}

// Servers lists the servers that the account may see; with a name, those whose name or id it is.
// The error is a *finding.Problem.
func (c *Client) Servers(ctx context.Context, name string) ([]Server, error) {
	query := url.Values{}
	if name != "" {
		query.Set("name", name)
	}
	type page struct {
		Servers []Server `json:"servers"`
	}
	var all []Server
	if err := pages(ctx, c, "/v1/servers", query, func(p page) (int, error) {
		for _, s := range p.Servers {
			if err := s.check(); err != nil {
				return 0, err
			}
		}
		all = append(all, p.Servers...)
		return len(p.Servers), nil
	}); err != nil {
		return nil, err
	}
	if name != "" {
		all = slices.DeleteFunc(all, func(s Server) bool { return s.Name != name && s.ID != name })
	}
	return all, nil
}

// Server gives the one server of a name or an id. The error is a *finding.Problem, which names
// what is near.
func (c *Client) Server(ctx context.Context, name string) (Server, error) {
	ctx, cancel, err := c.walk(ctx, c.listing())
	if err != nil {
		return Server{}, err
	}
	defer cancel()
	list, err := c.Servers(ctx, name)
	if err != nil {
		return Server{}, err
	}
	if i := slices.IndexFunc(list, func(s Server) bool { return s.ID == name }); i >= 0 {
		return list[i], nil // no name takes an id away
	}
	facts := c.facts()
	facts[finding.FactCloudName] = name
	switch len(list) {
	case 1:
		return list[0], nil
	case 0:
		others, err := c.Servers(ctx, "")
		if err != nil {
			return Server{}, err
		}
		var names []string
		for _, s := range others {
			names = append(names, s.Name)
		}
		return Server{}, c.fail(ctx, &finding.Problem{Code: finding.CloudServerUnknown, Facts: c.near(facts, name, names)})
	}
	var ids []string
	for _, s := range list {
		ids = append(ids, s.ID)
	}
	facts[finding.FactNearServer] = c.Account.Name + "/" + ids[0]
	facts[finding.FactNames] = joined(ids)
	return Server{}, c.fail(ctx, &finding.Problem{Code: finding.CloudSeveral, Facts: facts})
}

// Databases lists the databases of a server. The error is a *finding.Problem.
func (c *Client) Databases(ctx context.Context, id string) ([]string, error) {
	type page struct {
		Databases []struct {
			Name string `json:"name"`
		} `json:"databases"`
	}
	var names []string
	err := pages(ctx, c, "/v1/servers/"+id+"/databases", nil, func(p page) (int, error) {
		for _, each := range p.Databases {
			if shown(each.Name, 256) {
				names = append(names, each.Name)
			}
		}
		return len(p.Databases), nil
	})
	return names, err
}

// Caller gives the address that the cloud sees this client's requests come from. The error is a
// *finding.Problem.
func (c *Client) Caller(ctx context.Context) (netip.Addr, error) {
	var out struct {
		Address string `json:"address"`
	}
	if _, err := c.call(ctx, http.MethodGet, "/v1/caller", nil, nil, &out); err != nil {
		return netip.Addr{}, err
	}
	addr, err := netip.ParseAddr(out.Address)
	if err != nil || addr.Zone() != "" {
		return netip.Addr{}, c.fail(ctx, malformed("the address that it sees is none"))
	}
	return addr.Unmap(), nil
}

// Login is a temporary login to a server.
type Login struct {
	User     string
	Password secret.Secret
	Until    time.Time
}

// Login has the cloud make a temporary login to a server; user "" leaves the user to the cloud.
// The error is a *finding.Problem.
func (c *Client) Login(ctx context.Context, id, user, database string) (Login, error) {
	in := map[string]string{}
	for key, value := range map[string]string{"user": user, "database": database} {
		if value != "" {
			in[key] = value
		}
	}
	var out struct {
		User     string    `json:"user"`
		Password string    `json:"password"`
		Until    time.Time `json:"until"`
	}
	if _, err := c.call(ctx, http.MethodPost, "/v1/servers/"+id+"/logins", nil, in, &out); err != nil {
		return Login{}, err
	}
	switch {
	case out.User == "" || !shown(out.User, 128) || user != "" && out.User != user:
		return Login{}, c.fail(ctx, malformed("the user of a temporary login is none, or another than was asked for"))
	case out.Password == "" || secret.Usable(out.Password) != nil || !out.Until.After(time.Now()):
		return Login{}, c.fail(ctx, malformed("a temporary login has no password that can be one, or is over already"))
	}
	login := Login{out.User, secret.New(out.Password), out.Until}
	c.hide(login.Password)
	return login, nil
}

// family names the engines that a server's word may mean.
func family(name string) string {
	if info, ok := known.Info(name); ok {
		return info.Family
	}
	return ""
}
