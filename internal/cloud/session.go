package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/secret"
)

// Keys keeps the key of a sign-in: an age identity (X25519) in a wallet or in the keyring. A job
// that may only read a wallet can so store a new token: what is encrypted to the key needs no
// right to write where the key is.
type Keys interface {
	// Key gives the key of an account. The error is a *finding.Problem, or that of asking a person.
	Key(ctx context.Context, a Account) (secret.Secret, error)
}

// Session is a sign-in as it is kept: a file of the state folder, encrypted with the account's
// key, and what of it is in memory. One serves all requests of a process.
type Session struct {
	// File is where it is kept.
	File string
	Keys Keys
	// Now is the clock; nil for the system's.
	Now func() time.Time
	// Note is told what a person should know; nil for nobody.
	Note func(text string)

	mu       sync.Mutex // held for moments, never over a request
	tokens   Tokens
	identity *age.X25519Identity
	known    []outside.Hidden // every token that was in memory
	reading  flight[struct{}]
	renewing flight[secret.Secret]
}

// Signed says who is signed in, without any key.
type Signed struct {
	Format int       `json:"format"`
	Cloud  string    `json:"cloud"`
	Who    string    `json:"who"`
	Since  time.Time `json:"since"`
}

// kept is the file: what is not secret, and what is, sealed.
type kept struct {
	Signed
	Sealed []byte `json:"sealed"`
}

// inside is what is sealed. Cloud is in it, so that a token goes to nobody else, also when the
// account's file says another URL later.
type inside struct {
	Cloud   string    `json:"cloud"`
	Access  string    `json:"access"`
	Refresh string    `json:"refresh"`
	End     time.Time `json:"end"`
}

const (
	sessionFormat = 1
	maxSession    = 256 << 10
	// early is how long before its end a token is not used any more.
	early = 30 * time.Second
)

func (s *Session) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}

// Who says who is signed in, as it was at the sign-in; false where nobody is.
func (s *Session) Who() (Signed, bool, error) {
	k, err := s.read()
	if errors.Is(err, fs.ErrNotExist) {
		return Signed{}, false, nil
	}
	return k.Signed, err == nil, err
}

func (s *Session) read() (k kept, err error) {
	data, err := files.ReadOwn(s.File, maxSession)
	if err != nil {
		return k, err
	}
	if err := budget.Unmarshal(data, &k); err != nil || k.Format != sessionFormat || len(k.Sealed) == 0 {
		return kept{}, fmt.Errorf("%s is damaged, or of another version; sign in anew", s.File)
	}
	return k, nil
}

// Token gives a token for requests. After is one that the cloud has just refused: another one is
// given then. The account is locked while it is refreshed, and what is kept is read again first,
// so that two programs do not use the same refresh token; goroutines of one program wait for one
// refresh, each as long as its context allows. The error is a *finding.Problem, or that of asking
// a person.
func (s *Session) Token(ctx context.Context, c *Client, after secret.Secret) (secret.Secret, error) {
	for joined := false; ; joined = true {
		if token, good := s.good(after); good {
			return token, nil
		}
		token, err := s.renewing.do(ctx, func(ctx context.Context) (secret.Secret, error) { return s.renew(ctx, c, after) })
		err = c.ended(ctx, err)
		if err != nil || joined || !after.Given() || !after.Same(token) {
			return token, err
		}
	}
}

// renew gives a token that is kept, or has the cloud give another.
func (s *Session) renew(ctx context.Context, c *Client, after secret.Secret) (secret.Secret, error) {
	if err := s.load(ctx, c); err != nil {
		return secret.Secret{}, err
	}
	if token, good := s.good(after); good {
		return token, nil
	}
	unlock, err := files.LockFor(ctx, s.File+".lock", 2*c.limit()+10*time.Second)
	if err != nil {
		return secret.Secret{}, s.unusable(ctx, c, err)
	}
	defer unlock()
	if err := s.load(ctx, c); err != nil {
		return secret.Secret{}, err
	}
	if token, good := s.good(after); good {
		return token, nil
	}
	fresh, err := c.Refresh(ctx, s.current().Refresh)
	if err != nil {
		return secret.Secret{}, err
	}
	s.remember(fresh)
	k, err := s.read()
	if err == nil {
		err = s.write(k.Signed, fresh)
	}
	if err != nil && s.Note != nil {
		s.Note(fmt.Sprintf("the new sign-in of the cloud account %s could not be stored, so that the next run "+
			"has to sign in anew: %v",
			c.Account.Name, err))
	}
	return fresh.Access, nil
}

// current gives the tokens in memory.
func (s *Session) current() Tokens {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.tokens
}

// remember takes tokens into memory.
func (s *Session) remember(t Tokens) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tokens = t
	for _, each := range []secret.Secret{t.Access, t.Refresh} {
		if each.Reveal() != "" && !slices.ContainsFunc(s.known, func(h outside.Hidden) bool {
			return h.Reveal() == each.Reveal()
		}) {
			s.known = append(s.known, each)
		}
	}
}

// hidden gives every token that was in memory: none of them is to be shown.
func (s *Session) hidden() []outside.Hidden {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.known)
}

// good gives the token in memory, and whether it can be used.
func (s *Session) good(after secret.Secret) (secret.Secret, bool) {
	t := s.current()
	return t.Access, t.Access.Reveal() != "" && !(after.Given() && after.Same(t.Access)) &&
		(t.End.IsZero() || s.now().Before(t.End.Add(-early)))
}

// ready reads what is kept, where nothing is in memory yet: that may ask a person, who is given
// the time.
func (s *Session) ready(ctx context.Context, c *Client) error {
	if s.current().Refresh.Reveal() != "" {
		return nil
	}
	_, err := s.reading.do(ctx, func(ctx context.Context) (struct{}, error) { return struct{}{}, s.load(ctx, c) })
	return c.ended(ctx, err)
}

// key gives the key of the sign-in.
func (s *Session) key(ctx context.Context, c *Client) (*age.X25519Identity, error) {
	s.mu.Lock()
	identity := s.identity
	s.mu.Unlock()
	if identity != nil {
		return identity, nil
	}
	key, err := s.Keys.Key(ctx, c.Account)
	if p, other := finding.AsProblem(err); other != nil {
		return nil, other
	} else if p != nil {
		return nil, s.unusable(ctx, c, p)
	}
	if identity, err = age.ParseX25519Identity(key.Reveal()); err != nil {
		return nil, s.unusable(ctx, c, errors.New("what is stored as the key is none"))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.identity = identity
	return identity, nil
}

// load reads what is kept into memory.
func (s *Session) load(ctx context.Context, c *Client) error {
	k, err := s.read()
	if errors.Is(err, fs.ErrNotExist) {
		return c.fail(ctx, &finding.Problem{Code: finding.CloudSignedOut})
	}
	if err != nil {
		return s.unusable(ctx, c, err)
	}
	if k.Cloud != c.Account.Origin.String() {
		return c.fail(ctx, &finding.Problem{Code: finding.CloudSignedOut,
			Tried: []string{"the sign-in that is stored is for " + k.Cloud}})
	}
	identity, err := s.key(ctx, c)
	if err != nil {
		return err
	}
	t, err := open(k.Sealed, identity)
	if err != nil {
		return s.unusable(ctx, c, errors.New("the key that is stored is not the one of this sign-in"))
	}
	if t.Cloud != k.Cloud {
		return s.unusable(ctx, c, errors.New("it is for another cloud than its file says"))
	}
	s.remember(Tokens{Access: secret.New(t.Access), Refresh: secret.New(t.Refresh), End: t.End})
	return nil
}

// unusable is the problem of a sign-in that cannot be used here.
func (s *Session) unusable(ctx context.Context, c *Client, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	p := &finding.Problem{Code: finding.CloudKeyMissing, Err: err}
	detail := err.Error()
	if known, _ := finding.AsProblem(err); known != nil {
		detail = known.Error()
	} else if detail != "" {
		detail = strings.ToUpper(detail[:1]) + detail[1:] + "."
	}
	made := c.fail(ctx, p)
	p.Set(finding.FactDetail, detail)
	return made
}

func open(sealed []byte, identity age.Identity) (t inside, err error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), identity)
	if err != nil {
		return t, err
	}
	data, err := io.ReadAll(io.LimitReader(r, maxSession))
	if err != nil {
		return t, err
	}
	return t, budget.Unmarshal(data, &t)
}

// write seals tokens and puts them instead of what was kept.
func (s *Session) write(signed Signed, t Tokens) error {
	data, err := json.Marshal(inside{Cloud: signed.Cloud, Access: t.Access.Reveal(),
		Refresh: t.Refresh.Reveal(), End: t.End})
	if err != nil {
		return err
	}
	var sealed bytes.Buffer
	s.mu.Lock()
	to := s.identity.Recipient()
	s.mu.Unlock()
	w, err := age.Encrypt(&sealed, to)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return err
	}
	signed.Format = sessionFormat
	text, err := json.Marshal(kept{signed, sealed.Bytes()})
	if err != nil {
		return err
	}
	return files.Write(s.File, append(text, '\n'), 0o600)
}

// NewKey makes a key for a sign-in.
func NewKey() (secret.Secret, error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return secret.Secret{}, err
	}
	return secret.New(identity.String()), nil
}

// Keep keeps the tokens of a sign-in, sealed with a key, and asks the cloud who that is. A
// sign-in of before is ended at the cloud. The error is a *finding.Problem, or that of writing.
func (s *Session) Keep(ctx context.Context, c *Client, key secret.Secret, t Tokens) (Signed, error) {
	identity, err := age.ParseX25519Identity(key.Reveal())
	if err != nil {
		return Signed{}, errors.New("what is stored as the key of this account's sign-in is none")
	}
	s.mu.Lock()
	s.identity = identity
	s.mu.Unlock()
	s.remember(t)
	signed := Signed{Cloud: c.Account.Origin.String(), Since: s.now().UTC().Truncate(time.Second)}
	if who, err := c.Who(ctx); err == nil {
		signed.Who = who
	}
	before, err := s.replace(ctx, signed, identity)
	if err == nil && before.Cloud == signed.Cloud && before.Refresh != "" {
		_ = c.Revoke(ctx, secret.New(before.Refresh)) // it ends by itself where the cloud cannot be told
	}
	return signed, err
}

// replace puts the sign-in in memory instead of what was kept, and gives that.
func (s *Session) replace(ctx context.Context, signed Signed, identity *age.X25519Identity) (before inside, err error) {
	unlock, err := files.Lock(ctx, s.File+".lock")
	if err != nil {
		return before, err
	}
	defer unlock()
	if k, err := s.read(); err == nil && k.Cloud == signed.Cloud {
		before, _ = open(k.Sealed, identity)
	}
	return before, s.write(signed, s.current())
}

// End forgets the sign-in here, and has the cloud end it. What is kept here is gone in any case;
// the error says what the cloud answered.
func (s *Session) End(ctx context.Context, c *Client) error {
	unlock, err := files.Lock(ctx, s.File+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	failed := s.load(ctx, c)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := os.Remove(s.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	refresh := s.current().Refresh
	s.remember(Tokens{})
	if failed != nil {
		return failed
	}
	return c.Revoke(ctx, refresh)
}
