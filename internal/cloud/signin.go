package cloud

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

// ClientID is this program's name at a cloud (RFC 6749, section 2.2). It is a public client: it
// has no secret of its own.
const ClientID = "gentle-harbor"

// scope is what a sign-in asks for.
const scope = "databases"

// metadata is what a cloud says of its sign-in (RFC 8414).
type metadata struct {
	Issuer     string   `json:"issuer"`
	Device     string   `json:"device_authorization_endpoint"` // RFC 8628, section 4
	Token      string   `json:"token_endpoint"`
	Revocation string   `json:"revocation_endpoint"`
	Grants     []string `json:"grant_types_supported"`
}

// wellKnown is where the metadata is (RFC 8414, section 3).
const wellKnown = "/.well-known/oauth-authorization-server"

// deviceGrant is the grant type of a device (RFC 8628, section 3.4).
const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// Discover asks the cloud how one signs in, once, and checks that all of it is the cloud's own.
// The error is a *finding.Problem.
func (c *Client) Discover(ctx context.Context) error {
	_, err := c.discover(ctx)
	return err
}

func (c *Client) discover(ctx context.Context) (*metadata, error) {
	c.mu.Lock()
	known := c.metadata
	c.mu.Unlock()
	if known != nil {
		return known, nil
	}
	m, err := c.asking.do(ctx, c.described)
	return m, c.ended(ctx, err)
}

// described asks for the metadata, and checks them.
func (c *Client) described(ctx context.Context) (*metadata, error) {
	var m metadata
	if _, _, err := c.once(ctx, http.MethodGet, c.Account.Origin.String()+wellKnown, secret.Secret{}, nil,
		&m); err != nil {
		if p, _ := finding.AsProblem(err); p != nil && IsNotFound(err) {
			return nil, c.fail(ctx, malformed("it has no server metadata (RFC 8414) at %s", wellKnown))
		}
		return nil, err
	}
	if m.Issuer != c.Account.Origin.String() {
		return nil, c.fail(ctx, &elsewhereError{"says that its name is " + clip(m.Issuer)})
	}
	for _, each := range []string{m.Device, m.Token, m.Revocation} {
		u, err := url.Parse(each)
		switch {
		case each == "" || err != nil || u.Fragment != "":
			return nil, c.fail(ctx, malformed("its server metadata (RFC 8414) names no endpoint for devices, "+
				"for tokens, or for their revocation"))
		case !c.Account.Origin.Owns(u):
			return nil, c.fail(ctx, &elsewhereError{"has an endpoint at " + u.Scheme + "://" + clip(u.Host)})
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.metadata = &m
	return &m, nil
}

func (c *Client) oauth(m *metadata) *oauth2.Config {
	return &oauth2.Config{ClientID: ClientID, Scopes: []string{scope},
		Endpoint: oauth2.Endpoint{DeviceAuthURL: m.Device, TokenURL: m.Token, AuthStyle: oauth2.AuthStyleInParams}}
}

// carried has the library's requests go the client's own way, with its limit of time.
func (c *Client) carried(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, c.limit())
	return context.WithValue(ctx, oauth2.HTTPClient, c.http), cancel
}

// Asked is a sign-in that waits for a person to confirm it (RFC 8628, section 3.2).
type Asked struct {
	// Code is what the person compares.
	Code string
	// Page is the address of the page where the code is typed, and Whole that of the page with
	// the code filled in, "" for none.
	Page, Whole string
	// Elsewhere says that the page is at another host than the cloud.
	Elsewhere string
	End       time.Time

	device   secret.Secret
	interval time.Duration
}

// The bounds of what a cloud may ask of a person and of the loop.
const (
	maxWait     = 30 * time.Minute
	maxInterval = time.Minute
)

// Ask begins a sign-in. The error is a *finding.Problem.
func (c *Client) Ask(ctx context.Context) (*Asked, error) {
	m, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	carried, cancel := c.carried(ctx)
	defer cancel()
	got, err := c.oauth(m).DeviceAuth(carried)
	if err != nil {
		return nil, c.fail(ctx, c.retrieved(err))
	}
	// RFC 8628, section 3.2
	a := &Asked{Code: got.UserCode, End: got.Expiry, device: secret.New(got.DeviceCode), interval: 5 * time.Second}
	if got.Interval > 0 {
		a.interval = time.Duration(min(got.Interval, int64(maxInterval/time.Second))) * time.Second
	}
	c.hide(a.device)
	// The library multiplies the seconds as they came: what is over already, or too far away, is
	// none that a cloud meant.
	if now := time.Now(); !a.End.After(now) || a.End.After(now.Add(maxWait)) {
		a.End = now.Add(maxWait)
	}
	var ok bool
	if a.Page, ok = c.page(got.VerificationURI); !ok || got.DeviceCode == "" || len(got.DeviceCode) > 4096 ||
		!isCode(a.Code) {
		return nil, c.fail(ctx, malformed("its answer to the sign-in has no page, no code, or a code that "+
			"cannot be compared"))
	}
	if a.Whole, ok = c.page(got.VerificationURIComplete); !ok {
		a.Whole = ""
	}
	for _, each := range []string{a.Page, a.Whole} {
		if u, err := url.Parse(each); each != "" && err == nil && !c.Account.Origin.Owns(u) {
			a.Elsewhere = u.Host
		}
	}
	return a, nil
}

// isCode reports whether a text can be shown large and compared: capital letters, digits and
// dashes, at most 16 of them.
func isCode(text string) bool {
	return text != "" && len(text) <= 16 && strings.Trim(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-") == ""
}

// Tokens are what a sign-in gives.
type Tokens struct {
	Access, Refresh secret.Secret
	// End is when Access ends; zero where the cloud does not say.
	End time.Time
}

func tokensOf(t *oauth2.Token) Tokens {
	made := Tokens{Access: secret.New(t.AccessToken), Refresh: secret.New(t.RefreshToken), End: t.Expiry}
	// no number of seconds that a cloud meant
	if now := time.Now(); !made.End.After(now) || made.End.After(now.AddDate(10, 0, 0)) {
		made.End = time.Time{}
	}
	return made
}

// The ends of a sign-in without tokens.
var (
	ErrDenied  = errors.New("the sign-in was denied on the page")
	ErrTooLate = errors.New("nobody confirmed the code in time")
)

// Waiting says how a sign-in that waits goes.
type Waiting struct {
	// Lost is why the cloud could not be asked just now, nil where it was.
	Lost error
	// Next is when it is asked again.
	Next time.Time
}

// Wait asks the cloud until a person has confirmed the code, as RFC 8628, section 3.5, has it: at
// most once in the interval, more slowly when the cloud asks for it, and more and more slowly
// while the cloud cannot be reached. Told is called after each question. Sleep waits; nil for the
// clock. The error is ErrDenied, ErrTooLate, a *finding.Problem, or ctx's.
func (c *Client) Wait(ctx context.Context, a *Asked, told func(Waiting),
	sleep func(context.Context, time.Duration) error) (Tokens, error) {
	if sleep == nil {
		sleep = pause
	}
	m, err := c.discover(ctx)
	if err != nil {
		return Tokens{}, err
	}
	interval, lost := a.interval, time.Duration(0)
	for {
		if wait := interval + lost; time.Now().Add(wait).After(a.End) {
			return Tokens{}, ErrTooLate
		} else if err := sleep(ctx, wait); err != nil {
			return Tokens{}, err
		}
		carried, cancel := c.carried(ctx)
		got, err := c.oauth(m).Exchange(carried, "", oauth2.SetAuthURLParam("grant_type", deviceGrant),
			oauth2.SetAuthURLParam("device_code", a.device.Reveal()))
		cancel()
		if err == nil {
			return tokensOf(got), c.usable(ctx, got)
		}
		if ctx.Err() != nil {
			return Tokens{}, ctx.Err()
		}
		how := Waiting{}
		var answered *oauth2.RetrieveError
		switch errors.As(err, &answered); {
		case answered != nil && answered.ErrorCode == "authorization_pending":
			lost = 0
		case answered != nil && answered.ErrorCode == "slow_down":
			interval, lost = min(interval+5*time.Second, maxInterval), 0
		case answered != nil && answered.ErrorCode == "access_denied":
			return Tokens{}, ErrDenied
		case answered != nil && answered.ErrorCode == "expired_token":
			return Tokens{}, ErrTooLate
		default:
			how.Lost = c.fail(ctx, c.retrieved(err))
			p, _ := finding.AsProblem(how.Lost)
			if p == nil || p.Code != finding.CloudUnreachable && p.Code != finding.CloudSilent &&
				p.Code != finding.CloudDown && p.Code != finding.CloudRateLimited {
				return Tokens{}, how.Lost
			}
			lost = min(max(2*lost, interval), maxInterval)
		}
		how.Next = time.Now().Add(interval + lost)
		told(how)
	}
}

// pause waits for a while, or until ctx ends.
func pause(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// usable says what is wrong with tokens that were given.
func (c *Client) usable(ctx context.Context, t *oauth2.Token) error {
	switch {
	case !strings.EqualFold(t.TokenType, "bearer"):
		return c.fail(ctx, malformed("its tokens are of another type than Bearer (RFC 6750)"))
	case t.RefreshToken == "", len(t.AccessToken)+len(t.RefreshToken) > 32<<10, !isToken(t.AccessToken):
		return c.fail(ctx, malformed("its answer to the sign-in has no refresh token, or none that can be one"))
	}
	return nil
}

// isToken reports whether a text can be sent as a Bearer token (RFC 6750, section 2.1).
func isToken(text string) bool {
	return text != "" && !strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r > '~' })
}

// Refresh gives new tokens for a refresh token (RFC 6749, section 6). The error is a
// *finding.Problem; its code is finding.CloudExpired where the cloud does not take the token any
// more.
func (c *Client) Refresh(ctx context.Context, refresh secret.Secret) (Tokens, error) {
	m, err := c.discover(ctx)
	if err != nil {
		return Tokens{}, err
	}
	c.hide(refresh)
	carried, cancel := c.carried(ctx)
	defer cancel()
	got, err := c.oauth(m).TokenSource(carried, &oauth2.Token{RefreshToken: refresh.Reveal()}).Token()
	var answered *oauth2.RetrieveError
	if errors.As(err, &answered) && answered.ErrorCode == "invalid_grant" {
		return Tokens{}, c.fail(ctx, &finding.Problem{Code: finding.CloudExpired})
	}
	if err != nil {
		return Tokens{}, c.fail(ctx, c.retrieved(err))
	}
	return tokensOf(got), c.usable(ctx, got)
}

// Revoke has the cloud end a sign-in (RFC 7009). The error is a *finding.Problem.
func (c *Client) Revoke(ctx context.Context, refresh secret.Secret) error {
	c.hide(refresh)
	m, err := c.discover(ctx)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, c.limit())
	defer cancel()
	form := url.Values{"token": {refresh.Reveal()}, "token_type_hint": {"refresh_token"}, "client_id": {ClientID}}
	r, err := http.NewRequestWithContext(limited, http.MethodPost, m.Revocation, strings.NewReader(form.Encode()))
	if err != nil {
		return c.fail(ctx, malformed("its endpoint for revocation is no URL"))
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	answer, err := c.http.Do(r)
	if err != nil {
		return c.fail(ctx, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return c.fail(ctx, c.refusal(answer, ""))
	}
	return nil
}

// retrieved words the library's error: what it quotes of an answer may hold a token.
func (c *Client) retrieved(err error) error {
	var answered *oauth2.RetrieveError
	if !errors.As(err, &answered) {
		var u *url.Error
		var bad *malformedError
		var elsewhere *elsewhereError
		if errors.As(err, &u) || errors.As(err, &bad) || errors.As(err, &elsewhere) {
			return err
		}
		if strings.Contains(err.Error(), "more than") {
			return malformed("an answer has more than %d bytes", maxAnswer)
		}
		return malformed("its answer to the sign-in is not as RFC 6749 and RFC 8628 have it")
	}
	e := &refusedError{status: answered.Response.StatusCode}
	e.retry = retryAfter(answered.Response.Header, time.Now())
	veil := c.veil()
	e.Title, e.Detail = veil.Text(answered.ErrorCode), veil.Text(answered.ErrorDescription)
	if e.status == http.StatusUnauthorized || e.status < 400 {
		e.status = http.StatusForbidden // of this program, not of a person's sign-in
	}
	return e
}
