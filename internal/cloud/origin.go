// Package cloud speaks to clouds that run database servers: it signs a person in, asks where a
// server is and by which authority it is verified, lets an address in, and takes temporary
// logins.
//
// The protocol is one open description, docs/cloud-api.yaml: OAuth 2.0 for devices (RFC 8628),
// found by server metadata (RFC 8414), with refresh (RFC 6749) and revocation (RFC 7009); problem
// details (RFC 9457) for errors, and links (RFC 8288) for pages.
//
// One rule keeps tokens where they belong: everything of an account is at one [Origin], and no
// request leaves it. A redirect, a link or an endpoint that leads elsewhere ends the work before
// anything is sent there.
package cloud

import (
	"fmt"
	"net/url"
	"strings"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/target"
)

// Origin is where a cloud is: scheme, host and port (RFC 6454). It is https, or http on a
// loopback address of this machine. Its zero value is no cloud; [ParseOrigin] makes one.
type Origin struct {
	plain bool
	at    target.Endpoint
}

// ParseOrigin reads the URL of a cloud. It has no path, user, query or fragment.
func ParseOrigin(text string) (Origin, error) {
	text = strings.TrimSpace(text)
	u, err := url.Parse(text)
	shown := outside.Cell(text)
	switch {
	case err != nil || u.Scheme == "" || u.Host == "" || len(text) > 512 || !outside.Clean(text):
		return Origin{}, fmt.Errorf("the URL of a cloud is written https://HOST or https://HOST:PORT")
	case u.User != nil:
		return Origin{}, fmt.Errorf("the URL of a cloud has no user in it; gharbor cloud sign-in signs you in")
	case u.Path != "" && u.Path != "/", u.RawQuery != "", u.Fragment != "":
		return Origin{}, fmt.Errorf("the URL of a cloud has nothing after its host: write %s://%s", u.Scheme,
			outside.Cell(u.Host))
	}
	at, err := target.ParseEndpoint(u.Host)
	if err != nil || at.Host == "" || at.Database != "" || strings.ContainsAny(at.Host, "*%") {
		return Origin{}, fmt.Errorf("%s has no host that can be one: %v", shown, err)
	}
	o := Origin{at: at, plain: u.Scheme == "http"}
	switch usual := map[string]int{"http": 80, "https": 443}[u.Scheme]; {
	case usual == 0:
		return Origin{}, fmt.Errorf("a cloud is reached by https; %s is something else", outside.Cell(u.Scheme))
	case at.Port == 0:
		o.at.Port = usual
	}
	if o.plain && !o.Loopback() {
		return Origin{}, fmt.Errorf("a cloud is reached by https: everybody on the way could read what is sent to %s", shown)
	}
	return o, nil
}

// Loopback reports whether the cloud is on this machine, as it is written: a practice cloud, or
// an adapter that one runs oneself.
func (o Origin) Loopback() bool {
	return target.IsLoopback(o.at.Host) || target.Literal(o.at.Host)
}

// Place gives the host and the port.
func (o Origin) Place() target.Endpoint { return o.at }

// String gives the URL, without the scheme's usual port.
func (o Origin) String() string {
	scheme, at := "https", o.at
	if o.plain {
		scheme = "http"
	}
	if at.Port == map[string]int{"http": 80, "https": 443}[scheme] {
		at.Port = 0
		if strings.Contains(at.Host, ":") {
			at.Host = "[" + at.Host + "]"
		}
	}
	return scheme + "://" + at.Place()
}

// Owns reports whether a URL is of this origin.
func (o Origin) Owns(u *url.URL) bool {
	bare := url.URL{Scheme: u.Scheme, Host: u.Host}
	other, err := ParseOrigin(bare.String())
	return err == nil && u.User == nil && other == o
}
