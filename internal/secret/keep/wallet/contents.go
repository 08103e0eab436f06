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
	Target target.Target
	// First says that its user is the one that a profile without a user logs in as.
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
	// Unattended says that it was opened with the key of jobs, which can only read.
	Unattended bool

	places map[string]int // where the entry of each target is among the first placed of Entries; see index
	placed int
	text   []byte // the entries as they are written, until they are read; nil then
	path   string
	key    string // the public key that signed it, in base64
}

// load reads the entries. The error is a *finding.Problem.
func (c *Contents) load() error {
	if c.text == nil {
		return nil
	}
	entries, err := decode(c.text)
	if err != nil {
		return problem(finding.SecretWalletDamaged, c.path, "is signed and decrypted, but %v.", err)
	}
	c.Entries, c.text = entries, nil
	return nil
}

// only reads the entries of one user and no others: those in whose line the user's name stands as
// it is written.
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

// written is an entry as the encrypted content holds it: a JSON object on a line of its own (RFC
// 8259).
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
		return nil, fmt.Errorf("a wallet has at most %d entries", maxEntries)
	}
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	for _, e := range entries {
		if !readable(e.Target) {
			return nil, errors.New("an entry is for no user, or for no server that can be one")
		}
		out := written{Target: e.Target, First: e.First, Changed: e.Changed.UTC().Truncate(time.Second)}
		for _, text := range append([]string{e.Target.User, e.Target.Host, e.Target.Socket, e.Target.Database},
			e.Target.Hops...) {
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

// readable reports whether an entry's target is one: what is written must be read again.
func readable(t target.Target) bool {
	return t.User != "" && oneOf(t.Host, t.Socket, t.Alias, t.Container, t.Cloud) && t.Port >= 0 &&
		t.Port <= 65535 && target.Travel[t.TLS] != ""
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
		e := Entry{Target: in.Target, First: in.First, Changed: in.Changed}
		switch {
		case !readable(e.Target):
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

// oneOf reports whether just one of some texts is not empty.
func oneOf(texts ...string) bool {
	n := 0
	for _, text := range texts {
		if text != "" {
			n++
		}
	}
	return n == 1
}

// Confirm notes that what is stored for an alias may go where the alias leads now. It gives the
// users whose entries changed.
func (c *Contents) Confirm(alias string, now target.Definition) (users []string) {
	for i := range c.Entries {
		if e := &c.Entries[i]; e.Target.Alias == alias && e.Target.Defined.String() != now.String() {
			e.Target.Defined = now
			users = append(users, e.Target.User)
		}
	}
	return users
}

// Put takes an entry in, instead of an earlier one for the same user and endpoint; was reports
// whether there was one. An entry that is marked first takes the mark from the others of its
// endpoint.
func (c *Contents) Put(e Entry) (was bool) {
	if e.First {
		for i := range c.Entries {
			other := &c.Entries[i]
			if sameEndpoint(other.Target, e.Target) {
				other.First = false
			}
		}
	}
	if i := c.index(e.Target); i >= 0 {
		e.First = e.First || c.Entries[i].First
		c.Entries[i] = e
		return true
	}
	c.Entries = append(c.Entries, e)
	c.places[e.Target.Key()], c.placed = len(c.Entries)-1, len(c.Entries)
	return false
}

func sameEndpoint(a, b target.Target) bool {
	a.User, b.User = "", ""
	return a.Key() == b.Key()
}

// index gives where the entry of a target is, -1 for none. What it looks in is made once, and
// anew where an entry was taken out or others came.
func (c *Contents) index(dest target.Target) int {
	if c.places == nil || c.placed != len(c.Entries) {
		c.places, c.placed = make(map[string]int, len(c.Entries)), len(c.Entries)
		for i := len(c.Entries) - 1; i >= 0; i-- { // the first of two counts
			c.places[c.Entries[i].Target.Key()] = i
		}
	}
	if i, there := c.places[dest.Key()]; there {
		return i
	}
	return -1
}

// Get gives the entry for just this user and endpoint.
func (c *Contents) Get(dest target.Target) (Entry, bool) {
	if i := c.index(dest); i >= 0 {
		return c.Entries[i], true
	}
	return Entry{}, false
}

// Remove takes the entry for a user and endpoint out; it reports whether there was one.
func (c *Contents) Remove(dest target.Target) bool {
	i := c.index(dest)
	if i >= 0 {
		c.Entries, c.places = slices.Delete(c.Entries, i, i+1), nil
	}
	return i >= 0
}

// Match gives the entry that serves for a target, the most specific one. The error is a
// *finding.Problem that names what is nearest; where is how the wallet is called in it.
func (c *Contents) Match(dest target.Target, where string) (Entry, error) {
	picker := secret.Picker{Target: dest}
	for i := range c.Entries {
		picker.Offer(i, &c.Entries[i].Target)
	}
	best, found := picker.Best()
	if !found {
		return Entry{}, picker.Missing(where, where)
	}
	if other, tied := picker.Tie(); tied {
		return Entry{}, &finding.Problem{Code: finding.SecretWalletTie,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("The wallet has two entries that serve %s at "+
				"%s equally well, for %s and for %s.",
				dest.User, dest.Place(), c.Entries[best].Target.Endpoint, c.Entries[other].Target.Endpoint)}}
	}
	return c.Entries[best], nil
}

// User gives the user that a profile without a user logs in as: the user of the only entry that
// serves the target, or of the one that is marked first; "" when there is none, or several
// without such a mark. It lists those it met.
func (c *Contents) User(dest target.Target) (user string, several []string) {
	for _, e := range c.Entries {
		dest.User = e.Target.User
		if len(e.Target.Differs(dest)) > 0 || slices.Contains(several, e.Target.User) {
			continue
		}
		if e.First {
			return e.Target.User, append(several, e.Target.User)
		}
		several = append(several, e.Target.User)
	}
	if len(several) == 1 {
		return several[0], several
	}
	return "", several
}
