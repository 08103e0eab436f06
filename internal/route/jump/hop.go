package jump

import (
	"context"

	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Hop is a machine on the route. It implements [route.Hop].
type Hop struct {
	target.Hop
	// Before are the hops before it.
	Before []target.Hop
	Config Config
	// Own is the file in which this program keeps the host keys that were accepted.
	Own string
	// Accept asks a person whether a host's key is the right one; nil where nobody can be asked.
	// Accepted are the fingerprints that were accepted beforehand.
	Accept   func(ctx context.Context, key HostKey) (bool, error)
	Accepted []string
	// Passphrase gives the passphrase of a key; own says that the hop itself names that key, and
	// so its secret too. Password gives the password for the hop, and Answer what a person
	// answers to a question of the hop's. Each may be nil.
	Passphrase func(ctx context.Context, path string, own bool) (secret.Secret, error)
	Password   func(ctx context.Context, user string, port int) (secret.Secret, secret.Source, error)
	Answer     func(ctx context.Context, question string, shown bool) (secret.Secret, error)
	// Who names the service of another kind that is at the hop's address, with an article: by its
	// first bytes, or where it said nothing by what it answers over a connection that connect
	// makes; "" where that is not known. It may be nil.
	Who func(ctx context.Context, first string, connect func(ctx context.Context) (net.Conn, error)) string
	// Pause stops the clock of the leg until resume is called, since a person or an agent is
	// asked. AskLimit is how long that may take.
	Pause    func() (resume func())
	AskLimit time.Duration
	Resolver route.Resolver // nil for the system's
	// Strange says that a project names this hop: a program that the user's configuration starts
	// for it starts in an empty folder.
	Strange bool
	// Temp is a folder of this program's own for what is needed for a moment, where the system's
	// is open to others.
	Temp string
	// News are the host keys that a person has accepted in this run, which counts for less than a
	// key that was known before. It may be nil.
	News  *News
	Clock func() time.Time // nil for time.Now
	// ProofTime is how long a hop may take to prove the keys that it announces; 0 for 10 s.
	ProofTime time.Duration
}

// News are host keys that were accepted in one run of the program: until it ends, they are not
// taken for keys that were known before. The zero value has none.
type News struct{ keys sync.Map }

func (n *News) add(key ssh.PublicKey) {
	if n != nil {
		n.keys.Store(string(key.Marshal()), true)
	}
}

func (n *News) has(key ssh.PublicKey) bool {
	if n == nil {
		return false
	}
	_, new := n.keys.Load(string(key.Marshal()))
	return new
}

// HostKey is a host's key that is not known.
type HostKey struct {
	Hop         string // as it is written
	Fingerprint string // SHA256:…
	Type        string // such as ssh-ed25519
	// Others are the fingerprints of the host's further keys, each with its type.
	Others []string
	// Given are fingerprints that were accepted beforehand; none of them is this key's.
	Given []string
}

// attempt is one login to a hop.
type attempt struct {
	*Hop
	ctx      context.Context
	settings Settings
	host     string // the name or address that is connected to
	port     int
	user     string
	theirs   HostKeys // the user's and the system's known hosts
	trust    trust    // what they and this program's own file say of the host
	chain    string   // its name in the program's own file
	// userFiles are the user's files of known hosts, ownUnread is why this program's own one
	// could not be read.
	userFiles []string
	ownUnread error
	key       ssh.PublicKey
	pin       []byte // the key that was shown first and judged, as it came
	known     bool   // its key was known before
	heard     bool   // it has announced its keys
	teaches   bool   // it was known by itself, from a file of the user's or ours: what it announces is learned
	how       string // how it let us in
	wants     []string
	offered   []string
	banner    *outside.Head
	sent      []outside.Hidden // what was sent to it in secret: it must not be shown when the hop repeats it
	failure   error            // what ended the login, where the library would only say that it failed
}

func (a *attempt) pause() func() {
	if a.Pause == nil {
		return func() {}
	}
	return a.Pause()
}

// askLimit is how long a person or an agent may take to answer.
func (a *attempt) askLimit() time.Duration {
	if a.AskLimit > 0 {
		return a.AskLimit
	}
	return 2 * time.Minute
}

// asking gives the context of a question to a person or an agent. Whoever asks ends it.
func (a *attempt) asking() (context.Context, context.CancelFunc) {
	return context.WithTimeout(a.ctx, a.askLimit())
}

// turn is what the library's own goroutine does with the key that a host shows, which can be
// long, since a person may be asked. The library does not promise that this is over when the
// handshake is: nothing of a login is touched after that.
type turn struct {
	mu   sync.Mutex
	over bool
}

// take does something, unless it is over. It is done when end returns.
func (t *turn) take(do func() error) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.over {
		return net.ErrClosed
	}
	return do()
}

// end waits for what is done, and lets nothing more be done.
func (t *turn) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.over = true
}

// veil masks what was sent to the hop in secret.
func (a *attempt) veil() outside.Veil {
	return outside.Veil{Secrets: a.sent, Spare: []string{a.user, a.host}}
}

// said makes the hop's words fit to be a problem's: without what was sent to it in secret.
func (a *attempt) said(words outside.Raw) outside.Raw {
	return outside.Said(a.veil().Words(words))
}

// ids counts what was met at this hop, for a problem's facts.
func (a *attempt) problem(code finding.Code, facts finding.Facts) *finding.Problem {
	if facts == nil {
		facts = finding.Facts{}
	}
	facts[finding.FactHop] = a.Hop.String()
	if a.host != "" {
		facts[finding.FactHopAddress] = net.JoinHostPort(a.host, strconv.Itoa(a.port))
	}
	if a.user != "" {
		facts[finding.FactHopUser] = a.user
	}
	return &finding.Problem{Code: code, Facts: facts}
}

// tokens are what stands for % and a letter in the configuration (ssh_config(5), "TOKENS").
func (a *attempt) tokens() map[byte]string {
	w, alias := a.Config.World, a.Host
	if named := a.settings.text("hostkeyalias"); named != "" {
		alias = named
	}
	short, _, _ := strings.Cut(w.Host, ".")
	return map[byte]string{'h': a.host, 'n': a.Host, 'p': strconv.Itoa(a.port), 'r': a.user, 'u': w.User,
		'd': w.Home, 'i': strconv.Itoa(w.UID), 'l': w.Host, 'L': short, 'k': alias, 'j': a.settings.text("proxyjump")}
}

// asksNobody reports whether the configuration forbids questions (ssh_config(5), BatchMode).
func (a *attempt) asksNobody() bool { return strings.EqualFold(a.settings.text("batchmode"), "yes") }
