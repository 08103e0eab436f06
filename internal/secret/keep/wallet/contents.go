package wallet

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
	"unicode/utf8"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Entry is one password and what it is bound to.
type Entry struct {
	Way target.Target
	// First tells that its user is the one that a profile without a user logs in as.
	First bool
	// Secret is not Given for an account that has no password.
	Secret secret.Secret
	// Changed is when it was put in, to the second.
	Changed time.Time
}

// Contents is an open wallet.
type Contents struct {
	ID      string
	Version uint64
	Entries []Entry
	// Unattended tells that it was opened with the key of jobs, which can only read.
	Unattended bool

	text []byte // the entries as they are written, until they are read; nil then
	path string
}

// load reads the entries. The error is a *finding.Problem.
func (c *Contents) load() error {
	if c.text == nil {
		return nil
	}
	entries, err := decode(c.text)
	if err != nil {
		return problem("wallet-damaged", c.path, "is signed and decrypted, but %v.", err)
	}
	c.Entries, c.text = entries, nil
	return nil
}

// only reads the entries of one user and no others: those in whose line the user's name stands as it is written.
func (c *Contents) only(user string) (*Contents, error) {
	name, err := json.Marshal(user)
	if err != nil || c.text == nil {
		return c, nil
	}
	mark := append([]byte(`{"user":`), name...)
	var lines []byte
	for line := range bytes.Lines(c.text) {
		if bytes.HasPrefix(line, mark) {
			lines = append(lines, line...)
		}
	}
	some := &Contents{ID: c.ID, Version: c.Version, text: lines, path: c.path}
	return some, some.load()
}

// written is an entry as the encrypted content holds it: a JSON object on a line of its own (RFC 8259).
type written struct {
	target.Target
	First   bool      `json:"first,omitempty"`
	Secret  *string   `json:"secret,omitempty"`
	Bytes   string    `json:"secret_bytes,omitempty"` // base64, for a secret that is not UTF-8
	Changed time.Time `json:"changed"`
}

// maxEntries bounds a wallet.
const maxEntries = 100_000

// encode writes the entries, in order.
func encode(entries []Entry) ([]byte, error) {
	if len(entries) > maxEntries {
		return nil, fmt.Errorf("a wallet holds at most %d entries", maxEntries)
	}
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	for _, e := range entries {
		out := written{Target: e.Way, First: e.First, Changed: e.Changed.UTC().Truncate(time.Second)}
		for _, text := range append([]string{e.Way.User, e.Way.Host, e.Way.Socket, e.Way.Database}, e.Way.Hops...) {
			if !utf8.ValidString(text) {
				return nil, errors.New("a name is not UTF-8 text")
			}
		}
		if text := e.Secret.Reveal(); e.Secret.Given() && utf8.ValidString(text) {
			out.Secret = &text
		} else if e.Secret.Given() {
			out.Bytes = base64.StdEncoding.EncodeToString([]byte(text))
		}
		if err := encoder.Encode(out); err != nil {
			return nil, errors.New("an entry cannot be written")
		}
	}
	return b.Bytes(), nil
}

var errContents = errors.New("its content cannot be read")

// decode reads what encode wrote. Its error repeats nothing.
func decode(text []byte) ([]Entry, error) {
	entries := make([]Entry, 0, bytes.Count(text, []byte("\n")))
	for len(text) > 0 {
		line, rest, ok := bytes.Cut(text, []byte("\n"))
		text = rest
		var in written
		if !ok || len(entries) >= maxEntries || json.Unmarshal(line, &in) != nil {
			return nil, errContents
		}
		e := Entry{Way: in.Target, First: in.First, Changed: in.Changed}
		switch {
		case e.Way.User == "" || (e.Way.Host == "") == (e.Way.Socket == "") || e.Way.Port < 0 || e.Way.Port > 65535 || target.Travel[e.Way.TLS] == "":
			return nil, errContents
		case in.Secret != nil && in.Bytes != "":
			return nil, errContents
		case in.Secret != nil:
			e.Secret = secret.New(*in.Secret)
		case in.Bytes != "":
			data, err := base64.StdEncoding.DecodeString(in.Bytes)
			if err != nil {
				return nil, errContents
			}
			e.Secret = secret.New(string(data))
		}
		entries = append(entries, e)
	}
	return entries, nil
}

// Put takes an entry in, in the place of an earlier one for the same user and endpoint; was tells whether there
// was one. An entry that is marked first takes the mark from the others of its endpoint.
func (c *Contents) Put(e Entry) (was bool) {
	if e.First {
		for i := range c.Entries {
			other := &c.Entries[i]
			if sameEndpoint(other.Way, e.Way) {
				other.First = false
			}
		}
	}
	if i := c.index(e.Way); i >= 0 {
		e.First = e.First || c.Entries[i].First
		c.Entries[i] = e
		return true
	}
	c.Entries = append(c.Entries, e)
	return false
}

func sameEndpoint(a, b target.Target) bool {
	a.User, b.User = "", ""
	return a.Key() == b.Key()
}

func (c *Contents) index(way target.Target) int {
	key := way.Key()
	return slices.IndexFunc(c.Entries, func(e Entry) bool { return e.Way.User == way.User && e.Way.Key() == key })
}

// Get gives the entry for just this user and endpoint.
func (c *Contents) Get(way target.Target) (Entry, bool) {
	if i := c.index(way); i >= 0 {
		return c.Entries[i], true
	}
	return Entry{}, false
}

// Remove takes the entry for a user and endpoint out; it tells whether there was one.
func (c *Contents) Remove(way target.Target) bool {
	i := c.index(way)
	if i >= 0 {
		c.Entries = slices.Delete(c.Entries, i, i+1)
	}
	return i >= 0
}

// Match gives the entry that serves on a way, the most specific one. The error is a *finding.Problem that names
// what is nearest; where is how the wallet is called in it.
func (c *Contents) Match(way target.Target, where string) (Entry, error) {
	picker := secret.Picker{Way: way}
	for i := range c.Entries {
		picker.Offer(i, &c.Entries[i].Way)
	}
	best, found := picker.Best()
	if !found {
		return Entry{}, picker.Missing(where, where)
	}
	if other, tied := picker.Tie(); tied {
		return Entry{}, &finding.Problem{Code: "secret.wallet-tie", Facts: map[string]string{"detail": fmt.Sprintf("The wallet has two entries that serve %s at %s equally well, for %s and for %s.",
			way.User, way.Place(), c.Entries[best].Way.Endpoint, c.Entries[other].Way.Endpoint)}}
	}
	return c.Entries[best], nil
}

// User gives whom a profile without a user logs in as: the user of the only entry that serves on the way, or of
// the one that is marked first; "" when there is none, or several without such a mark. It lists those it met.
func (c *Contents) User(way target.Target) (user string, several []string) {
	for _, e := range c.Entries {
		way.User = e.Way.User
		if len(e.Way.Differs(way)) > 0 || slices.Contains(several, e.Way.User) {
			continue
		}
		if e.First {
			return e.Way.User, append(several, e.Way.User)
		}
		several = append(several, e.Way.User)
	}
	if len(several) == 1 {
		return several[0], several
	}
	return "", several
}
