package cloud

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// The types of problems (RFC 9457) that have a meaning of their own here; they are tag URIs (RFC
// 4151). All others are told by their status.
const (
	// ServiceOff is a service of the cloud that is switched off; its extension members are
	// service and link.
	ServiceOff = "tag:gentle-harbor.example,2026:service-off"
	// LoginsOff is a server that gives no temporary logins, or not for that user.
	LoginsOff = "tag:gentle-harbor.example,2026:no-temporary-login"
)

// details are problem details (RFC 9457), with the extension members of docs/cloud-api.yaml.
type details struct {
	Type    string `json:"type"`
	Title   string `json:"title"`
	Detail  string `json:"detail"`
	Service string `json:"service"`
	Link    string `json:"link"`
}

// refusedError is an answer that is no success.
type refusedError struct {
	status int
	details
	retry time.Time // when the cloud wants to be asked again, zero for not said
}

func (e *refusedError) Error() string { return fmt.Sprintf("it answered %d", e.status) }

// words are the cloud's own, "" for none.
func (e *refusedError) words() string {
	words := e.Title
	if e.Detail != "" && e.Detail != e.Title {
		if words != "" {
			words += ": "
		}
		words += e.Detail
	}
	return outside.Short(outside.Said(words), 400)
}

// refusal reads an answer that is no success. What it repeats of the client's secrets is masked.
func (c *Client) refusal(answer *http.Response, kind string) error {
	e := &refusedError{status: answer.StatusCode, retry: retryAfter(answer.Header, time.Now())}
	data, err := io.ReadAll(answer.Body)
	if kind == "application/problem+json" || kind == "application/json" {
		_ = json.Unmarshal(data, &e.details)
	}
	var large *malformedError
	if errors.As(err, &large) {
		return err
	}
	veil := c.veil()
	for _, text := range []*string{&e.Title, &e.Detail, &e.Service} {
		*text = veil.Text(*text)
	}
	if veil.Holds(e.Link) {
		e.Link = ""
	}
	return e
}

// retryAfter reads the header Retry-After (RFC 9110, section 10.2.3): seconds, or a date. More
// than a day counts as a day.
func retryAfter(h http.Header, now time.Time) time.Time {
	text := h.Get("Retry-After")
	var at time.Time
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		at = now.Add(time.Duration(min(n, 86400)) * time.Second)
	} else if date, err := http.ParseTime(text); err == nil {
		at = date
	}
	if limit := now.Add(24 * time.Hour); at.After(limit) {
		at = limit
	}
	return at
}

// IsNotFound reports whether an error says that the cloud has no such thing.
func IsNotFound(err error) bool {
	var e *refusedError
	return errors.As(err, &e) && e.status == http.StatusNotFound
}

// facts are those of every problem of the account.
func (c *Client) facts() finding.Facts {
	return finding.Facts{finding.FactCloudAccount: c.Account.Name, finding.FactCloudURL: c.Account.Origin.String()}
}

// veiled is an error whose words have passed the client's veil.
type veiled struct {
	error
	words string
}

func (v veiled) Error() string { return v.words }
func (v veiled) Unwrap() error { return v.error }

// fail words an error as a problem of the leg "cloud". When ctx was cancelled, it gives that
// error. All problems of the package pass it, and with it the client's veil.
func (c *Client) fail(ctx context.Context, err error) error {
	made := c.worded(ctx, err)
	p, is := made.(*finding.Problem)
	if !is {
		return made
	}
	veil := c.veil()
	if !p.Words.Empty() {
		p.Words = outside.Said(veil.Words(p.Words))
	}
	for _, fact := range []finding.Fact{finding.FactWrong, finding.FactDetail, finding.FactService,
		finding.FactNames, finding.FactRanges} {
		if text := p.Facts[fact]; veil.Holds(text) {
			p.Facts[fact] = veil.Text(text)
		}
	}
	if p.Err != nil && veil.Holds(p.Err.Error()) {
		p.Err = veiled{p.Err, veil.Text(p.Err.Error())}
	}
	return p
}

func (c *Client) worded(ctx context.Context, err error) error {
	if ctx.Err() != nil && context.Cause(ctx) == context.Canceled {
		return ctx.Err()
	}
	p := &finding.Problem{Code: finding.CloudUnknown, Err: err, Facts: c.facts()}
	var known *finding.Problem
	var elsewhere *elsewhereError
	var wrong *malformedError
	var refused *refusedError
	var untrusted *tls.CertificateVerificationError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case errors.As(err, &elsewhere):
		p.Code = finding.CloudOtherIssuer
		p.Set(finding.FactWrong, elsewhere.Error()+".")
	case errors.As(err, &wrong):
		p.Code = finding.CloudMalformed
		p.Set(finding.FactWrong, wrong.Error()+".")
	case errors.As(err, &refused):
		c.refused(p, refused)
	case errors.As(err, &untrusted), errors.As(err, &unknown), errors.As(err, &name):
		p.Code, p.Words = finding.CloudNotTrusted, outside.Said(root(err))
	case errors.As(err, &known) && known.Code.Leg() == "cloud":
		if known.Facts == nil {
			known.Facts = finding.Facts{}
		}
		for fact, value := range c.facts() {
			known.Facts[fact] = value
		}
		return known
	case finding.Silent(ctx, err):
		p.Code = finding.CloudSilent
		p.Set(finding.FactTimeout, c.within(ctx).String())
	case errors.As(err, &known):
		p.Code, p.Words = finding.CloudUnreachable, outside.Said(known.Error())
		if known.Code.Silent() {
			p.Code = finding.CloudSilent
			p.Set(finding.FactTimeout, c.within(ctx).String())
		}
	default:
		p.Code, p.Words = finding.CloudUnreachable, outside.Said(root(err))
	}
	return p
}

// root gives the innermost words of an error of a request: the outer ones repeat its URL.
func root(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return err.Error()
}

// refused says what an answer means that is no success.
func (c *Client) refused(p *finding.Problem, e *refusedError) {
	p.Words = outside.Said(e.words())
	p.Set(finding.FactStatus, strconv.Itoa(e.status))
	retry := e.retry
	switch {
	case e.Type == ServiceOff:
		p.Code = finding.CloudServiceOff
		p.Set(finding.FactService, e.Service)
		if link, ok := c.page(e.Link); ok {
			p.Set(finding.FactLink, link)
		}
	case e.Type == LoginsOff:
		p.Code = finding.SecretCloudHasNone
		p.Set(finding.FactDetail, "The cloud gives no temporary login for this server: "+e.words()+".")
	case e.status == http.StatusUnauthorized:
		p.Code = finding.CloudExpired
	case e.status == http.StatusTooManyRequests:
		p.Code = finding.CloudRateLimited
		if retry.IsZero() {
			retry = time.Now().Add(time.Minute)
		}
		p.Set(finding.FactRetry, retry.Local().Format("15:04:05"))
	case e.status >= 500:
		p.Code = finding.CloudDown
	case e.status == http.StatusForbidden, e.status == http.StatusPaymentRequired:
		p.Code = finding.CloudRefused
	}
}

// Speaker says whose words a problem of the leg "cloud" has: the cloud's, or those of the way to
// it.
func Speaker(p *finding.Problem) string {
	if p.Facts[finding.FactStatus] != "" {
		return "the cloud said"
	}
	return "the connection to the cloud"
}

// unescaped gives a URL with its escapes taken out: a secret may be written with them.
func unescaped(u *url.URL) string {
	query, _ := url.QueryUnescape(u.RawQuery)
	return u.Host + " " + u.Path + " " + query + " " + u.Fragment
}

// page gives the address of a page that a person may open: https, or http on this machine.
func (c *Client) page(text string) (string, bool) {
	u, err := url.Parse(text)
	if err != nil || c.veil().Holds(text) || c.veil().Holds(unescaped(u)) || len(text) > 512 || u.User != nil ||
		!outside.Clean(text) {
		return "", false
	}
	if _, err = ParseOrigin((&url.URL{Scheme: u.Scheme, Host: u.Host}).String()); err != nil {
		return "", false
	}
	return u.String(), true
}
