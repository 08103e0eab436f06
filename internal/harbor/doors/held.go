package doors

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// Held is one door.
type Held struct {
	Profile profile.Effective
	Report  *checkup.Report // of the test before it was opened
	Host    string
	Port    int
	Socket  string
	Since   time.Time
	// Passing says that the door passes bytes, and clients encrypt by themselves.
	Passing  bool
	Password secret.Secret // not given where none was found
	// Named is the name that a client must check in the server's certificate, "" for none. Untold
	// says that the connection string cannot tell it.
	Named  string
	Untold bool
	// Beside says that another program listens on the same port of ::1, where clients of
	// "localhost" may end up.
	Beside bool
	// Taken says that the port that was asked for is taken, and by which program; "" where it is not.
	Taken string
	// Borrowed is the process that holds the door, 0 for this one.
	Borrowed int

	settings string // a digest of those that the door was opened with
	why      func(error) string
	keeper   *door.Keeper
	door     *door.Door
	closed   bool
}

// quietly reports clients that are not let in: not what is the reason of the door's state, which
// was told, and the same at most once in ten seconds, whoever knocks how often.
func quietly(h *Held, say func(door.State, error)) func(error) {
	var mu sync.Mutex
	told := map[string]time.Time{}
	return func(err error) {
		state, _, reason := h.keeper.State()
		text := h.why(err)
		mu.Lock()
		defer mu.Unlock()
		if reason != nil && h.why(reason) == text || time.Since(told[text]) < 10*time.Second {
			return
		}
		if len(told) > 100 {
			clear(told)
		}
		told[text] = time.Now()
		say(state, err)
	}
}

// naming notes what a client must be told of the server's name.
func (h *Held) naming() {
	p := h.Profile
	_, told := p.AtDoor(h.at())
	if h.Untold = !told; h.Passing && (p.TLS.Mode == "verify" || h.Untold) {
		if h.Named = p.TLS.ServerName; h.Named == "" {
			h.Named = p.Host
		}
	}
}

// at gives where the door is.
func (h *Held) at() profile.Door {
	return profile.Door{Port: h.Port, Socket: h.Socket, Passing: h.Passing}
}

// URI gives the connection string for the door, with the password where one is given.
func (h *Held) URI(password secret.Secret) string {
	p := h.Profile
	if h.Report != nil && h.Report.Server != nil {
		p = p.KnownAs(h.Report.Server.Account)
	}
	at, _ := p.AtDoor(h.at())
	uri, _ := at.URI(password)
	return uri
}

// Place gives where the door is.
func (h *Held) Place() string {
	if h.Socket != "" {
		return h.Socket
	}
	return net.JoinHostPort(h.Host, strconv.Itoa(h.Port))
}

// Record gives what is told of the door.
func (h *Held) Record() door.Record {
	state, changed, problem := h.keeper.State()
	rec := door.Record{
		Profile: h.Profile.Name, Host: h.Host, Port: h.Port, Socket: h.Socket, State: state, Changed: changed,
		Since: h.Since, PID: os.Getpid(), Connections: h.door.Connections(),
		Target: h.Profile.Target(), Passing: h.Passing, Settings: h.settings, Why: h.why(problem),
	}
	var p *finding.Problem
	if errors.As(problem, &p) {
		rec.Code = string(p.Code)
	}
	switch {
	case state == door.NeedsYou:
		rec.Next = "gharbor test " + h.Profile.Name
	case state == door.Reconnecting:
		rec.Next = "wait: the route is opened anew, and new clients wait meanwhile"
	}
	return rec
}

func (h *Held) close(drain time.Duration) {
	if h.closed {
		return
	}
	h.closed = true
	if h.Borrowed != 0 {
		return
	}
	if h.door != nil {
		h.door.Close(drain)
	}
	if h.keeper != nil {
		h.keeper.Close()
	}
	if h.Socket != "" {
		_ = os.Remove(filepath.Dir(h.Socket))
	}
}

// Values gives what a program can be told of a door, by the words that hand-over has.
func (h *Held) Values() map[string]string {
	host, port := h.Host, strconv.Itoa(h.Port)
	if h.Socket != "" {
		host, port = filepath.Dir(h.Socket), ""
		if info, _ := known.Info(h.Profile.Engine); info.SocketFile == "" {
			host = h.Socket
		}
	}
	return map[string]string{"host": host, "port": port, "user": h.Profile.User, "database": h.Profile.Database,
		"uri": h.URI(h.Password), "secret": h.Password.Reveal()}
}

// why words what keeps a door from letting through, in a sentence that is clean.
func why(a agree.Admitted, checker checkup.Checker, problem error) string {
	var p *finding.Problem
	if errors.As(problem, &p) {
		return outside.Text(checker.Describe(context.Background(), a, p, "").Cause) + " (" + string(p.Code) + ")"
	}
	if problem != nil && !errors.Is(problem, net.ErrClosed) {
		return outside.Text(problem.Error())
	}
	return ""
}
