package cloud

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/peterhellberg/link"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// What is read from a cloud is bounded.
const (
	maxAnswer = 1 << 20 // bytes of one answer
	maxPages  = 100
	maxItems  = 5000
	maxPEM    = 64 << 10
	maxList   = 8 << 20 // bytes of all pages of one list
)

// shape bounds the JSON of one answer.
var shape = budget.Shape{Values: 50_000, List: maxItems, Depth: 24}

// Client asks one account's cloud. Make one with [NewClient].
type Client struct {
	Account Account
	// Session gives the token that requests carry; nil where nobody is signed in.
	Session *Session
	// Limit is how long one answer may take, and with it all that a connection asks of the cloud
	// before it begins; 5 seconds for 0. A list for a person may take six times as long.
	Limit time.Duration

	resolver route.Resolver
	http     *http.Client
	family   string // "tcp", or "tcp4" or "tcp6" for requests from an address of that family

	mu       sync.Mutex
	metadata *metadata
	asking   flight[*metadata]
	hidden   []outside.Hidden // what this client was given in secret, beside the sign-in's tokens
}

// NewClient makes a client of an account. Resolver looks the cloud's name up. The error names a
// file of certificates that cannot be used.
func NewClient(a Account, resolver route.Resolver) (*Client, error) {
	c := &Client{Account: a, resolver: resolver, family: "tcp"}
	return c, c.dials()
}

// Over gives a client whose requests come from an address of one family: 4 or 6.
func (c *Client) Over(family int) (*Client, error) {
	other := &Client{Account: c.Account, Session: c.Session, Limit: c.Limit, resolver: c.resolver,
		family: fmt.Sprint("tcp", family)}
	return other, other.dials()
}

// dials makes what carries requests.
func (c *Client) dials() error {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if c.Account.CA != "" {
		data, err := files.ReadOwn(c.Account.CA, maxPEM)
		if err != nil {
			return fmt.Errorf("the authority of the cloud account %s cannot be read: %w", c.Account.Name, err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(data) {
			return fmt.Errorf("%s, the authority of the cloud account %s, has no certificate in PEM form",
				c.Account.CA, c.Account.Name)
		}
	}
	c.http = &http.Client{
		Transport: guarded{c.Account.Origin, &http.Transport{
			DialContext: c.dial, TLSClientConfig: config, ForceAttemptHTTP2: true,
			DisableCompression: true, MaxResponseHeaderBytes: 64 << 10, MaxIdleConns: 2, IdleConnTimeout: 10 * time.Second,
		}},
		CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			return &elsewhereError{"redirects to " + r.URL.String()}
		},
	}
	return nil
}

// dial connects to the cloud, by the addresses that its name has. No variable of the environment
// leads it through another machine.
func (c *Client) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	at := c.Account.Origin.Place()
	resolver := c.resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	addrs, err := route.Addresses(ctx, resolver, at.Host)
	if err != nil {
		return nil, err
	}
	if target.IsLoopback(at.Host) { // it has both, also where the name service says less (RFC 6761)
		addrs = append(addrs, netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback())
	}
	var addresses []string
	for _, addr := range addrs {
		if c.family == "tcp" || (c.family == "tcp4") == addr.Is4() {
			addresses = append(addresses, netip.AddrPortFrom(addr, uint16(at.Port)).String())
		}
	}
	conn, err := route.DialEach(ctx, addresses, func(ctx context.Context, address string) (net.Conn, error) {
		return route.Dial(ctx, c.family, address)
	})
	if conn == nil && err == nil {
		err = errNoFamily
	}
	return conn, err
}

var errNoFamily = errors.New("the cloud has no address of that family")

// elsewhereError is the error of a cloud that leads to another host, or says that it is another.
type elsewhereError struct{ wrong string }

func (e *elsewhereError) Error() string { return "it " + outside.Text(e.wrong) }

// malformedError is the error of an answer that is not as the description says.
type malformedError struct{ wrong string }

func (e *malformedError) Error() string { return outside.Text(e.wrong) }

func malformed(format string, args ...any) error {
	return &malformedError{fmt.Sprintf(format, args...)}
}

// guarded lets requests go to one origin only, and bounds what comes back. All requests of an
// account pass it.
type guarded struct {
	origin Origin
	inner  http.RoundTripper
}

// RoundTrip implements http.RoundTripper.
func (g guarded) RoundTrip(r *http.Request) (*http.Response, error) {
	if !g.origin.Owns(r.URL) {
		return nil, &elsewhereError{"leads to " + r.URL.Scheme + "://" + r.URL.Host}
	}
	answer, err := g.inner.RoundTrip(r)
	if err == nil {
		limited := http.MaxBytesReader(nil, answer.Body, maxAnswer)
		answer.Body = bounded{budget.JSON(limited, shape), limited}
	}
	return answer, err
}

// bounded words the error of an answer that is too large, or holds too much.
type bounded struct {
	io.Reader
	io.Closer
}

func (b bounded) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	var large *http.MaxBytesError
	var over *budget.ExceededError
	switch {
	case errors.As(err, &large):
		err = malformed("an answer has more than %d bytes", large.Limit)
	case errors.As(err, &over):
		err = malformed("an answer is not read: %v", over)
	}
	return n, err
}

func (c *Client) limit() time.Duration {
	if c.Limit > 0 {
		return c.Limit
	}
	return 5 * time.Second
}

// walking marks the context of a walk.
type walking struct{}

// walk gives the context for all that one question asks of the cloud: one deadline over every
// request of it, and over each page. A walk inside a walk has the outer one's. What may ask a
// person comes before it: the sign-in's key is read first, with the context as it is.
func (c *Client) walk(ctx context.Context, limit time.Duration) (context.Context, context.CancelFunc, error) {
	if ctx.Value(walking{}) != nil {
		return ctx, func() {}, nil
	}
	if c.Session != nil {
		if err := c.Session.ready(ctx, c); err != nil {
			return nil, nil, err
		}
	}
	ctx, cancel := context.WithTimeout(context.WithValue(ctx, walking{}, limit), limit)
	return ctx, cancel, nil
}

// within gives the time that a question had that was not answered.
func (c *Client) within(ctx context.Context) time.Duration {
	if limit, is := ctx.Value(walking{}).(time.Duration); is && ctx.Err() != nil {
		return limit
	}
	return c.limit()
}

// ended words the end of a context as a problem; other errors are given back as they are.
func (c *Client) ended(ctx context.Context, err error) error {
	if ctx.Err() != nil && errors.Is(err, ctx.Err()) {
		return c.fail(ctx, err)
	}
	return err
}

// listing is how long a list for a person may take, with all its pages.
func (c *Client) listing() time.Duration { return 6 * c.limit() }

// call makes a request of the API and reads its answer into out. Where a token is refused, it is
// refreshed once. The error is a *finding.Problem of the leg "cloud", or ctx's.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, in, out any) (http.Header, error) {
	u := c.Account.Origin.String() + path
	if len(query) > 0 {
		u += "?" + query.Encode()
	}
	return c.callURL(ctx, method, u, in, out)
}

func (c *Client) callURL(ctx context.Context, method, u string, in, out any) (http.Header, error) {
	if c.Session == nil {
		return nil, c.fail(ctx, &finding.Problem{Code: finding.CloudSignedOut})
	}
	token, err := c.Session.Token(ctx, c, secret.Secret{})
	if err != nil {
		return nil, err
	}
	header, status, err := c.once(ctx, method, u, token, in, out)
	if status == http.StatusUnauthorized {
		if token, err = c.Session.Token(ctx, c, token); err != nil {
			return nil, err
		}
		header, _, err = c.once(ctx, method, u, token, in, out)
	}
	return header, err
}

// hide has the client's veil mask what the cloud has just given in secret.
func (c *Client) hide(given ...secret.Secret) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, each := range given {
		if each.Given() && !slices.ContainsFunc(c.hidden, func(h outside.Hidden) bool {
			return h.Reveal() == each.Reveal()
		}) {
			c.hidden = append(c.hidden, each)
		}
	}
}

// veil masks everything that the cloud and this client keep secret: no error, no link and no
// other text of the cloud's is shown without it.
func (c *Client) veil() outside.Veil {
	c.mu.Lock()
	v := outside.Veil{Secrets: slices.Clone(c.hidden)}
	c.mu.Unlock()
	if c.Session != nil {
		v.Secrets = append(v.Secrets, c.Session.hidden()...)
	}
	return v
}

// once makes one request.
func (c *Client) once(parent context.Context, method, u string, token secret.Secret, in, out any) (http.Header,
	int, error) {
	ctx, cancel := context.WithTimeout(parent, c.limit())
	defer cancel()
	var body io.Reader
	if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			return nil, 0, err
		}
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, u, body)
	if err != nil {
		return nil, 0, c.fail(parent, malformed("a link is no URL"))
	}
	r.Header.Set("Accept", "application/json, application/problem+json")
	if token.Reveal() != "" { // what a cloud says of its sign-in is asked for without one
		r.Header.Set("Authorization", "Bearer "+token.Reveal())
	}
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := c.http.Do(r)
	if err != nil {
		return nil, 0, c.fail(parent, err)
	}
	defer answer.Body.Close()
	kind, _, _ := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	if answer.StatusCode >= 300 {
		return nil, answer.StatusCode, c.fail(parent, c.refusal(answer, kind))
	}
	if out == nil || answer.StatusCode == http.StatusNoContent {
		return answer.Header, answer.StatusCode, nil
	}
	if kind != "application/json" {
		return nil, answer.StatusCode,
			c.fail(parent, malformed("an answer is of the kind %q, and not application/json", kind))
	}
	var whole json.RawMessage
	if err := json.NewDecoder(answer.Body).Decode(&whole); err != nil {
		return nil, answer.StatusCode, c.fail(parent, jsonError(err))
	}
	if c.repeats(whole) {
		return nil, answer.StatusCode, c.fail(parent, malformed("an answer repeats a secret of this sign-in"))
	}
	if read, counted := ctx.Value(listed{}).(*int); counted {
		if *read += len(whole); *read > maxList {
			return nil, answer.StatusCode, c.fail(parent, malformed("a list has more than %d bytes", maxList))
		}
	}
	if err := json.Unmarshal(whole, out); err != nil {
		return nil, answer.StatusCode, c.fail(parent, jsonError(err))
	}
	return answer.Header, answer.StatusCode, nil
}

// repeats reports whether a text of a JSON value holds a token of the sign-in: a cloud that names
// a server so wants it shown.
func (c *Client) repeats(data []byte) bool {
	if c.Session == nil {
		return false
	}
	veil := outside.Veil{Secrets: c.Session.hidden()}
	decoder := json.NewDecoder(bytes.NewReader(data))
	for {
		token, err := decoder.Token()
		if err != nil {
			return false
		}
		if text, is := token.(string); is && veil.Holds(text) {
			return true
		}
	}
}

// listed has the count of bytes that the pages of one list have had so far.
type listed struct{}

// jsonError keeps the errors of reading, and words the others: what a JSON decoder quotes may be
// a secret.
func jsonError(err error) error {
	var bad *malformedError
	var wrong *json.UnmarshalTypeError
	switch {
	case errors.As(err, &bad), finding.Silent(context.Background(), err):
		return err
	case errors.As(err, &wrong):
		return malformed("in an answer, %s is of another type than it should be", wrong.Field)
	}
	return malformed("an answer is no JSON, or ends in the middle")
}

// pages asks for a list, page by page (RFC 8288), and hands each page to take, which checks it
// and gives how many items it had. All pages share one deadline.
func pages[T any](ctx context.Context, c *Client, path string, query url.Values, take func(T) (int, error)) error {
	ctx, cancel, err := c.walk(ctx, c.listing())
	if err != nil {
		return err
	}
	defer cancel()
	ctx = context.WithValue(ctx, listed{}, new(int))
	u := c.Account.Origin.String() + path
	if len(query) > 0 {
		u += "?" + query.Encode()
	}
	items, seen := 0, map[string]bool{}
	for page := 0; u != ""; page++ {
		if page >= maxPages || seen[u] {
			return c.fail(ctx, malformed("a list has pages without an end"))
		}
		seen[u] = true
		var out T
		header, err := c.callURL(ctx, http.MethodGet, u, nil, &out)
		if err != nil {
			return err
		}
		n, err := take(out)
		if err != nil {
			return c.fail(ctx, err)
		}
		if items += n; items > maxItems {
			return c.fail(ctx, malformed("a list has more than %d items", maxItems))
		}
		next := link.ParseHeader(header)["next"]
		if next == nil {
			return nil
		}
		base, _ := url.Parse(u)
		to, err := base.Parse(next.URI)
		if err != nil {
			return c.fail(ctx, malformed("the link to the next page is no URL"))
		}
		u = to.String()
	}
	return nil
}
