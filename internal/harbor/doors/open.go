package doors

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Opening opens doors. Their port is the setting door of each profile.
type Opening struct {
	Run     harbor.Run
	Near    bool // when the port is taken, take the next free one
	Socket  bool // a Unix socket for this account alone, instead of a port
	Passing bool // pass bytes, and leave encryption to the clients
	// Borrow uses a door that is held open with the same settings.
	Borrow bool
	// Tell is told of each change of a door's state, and, with the state that it has, of clients
	// that are not let in; nil for nobody.
	Tell func(profile string, state door.State, why string)

	together int // how many doors are opened
}

// Open tests the profiles of some names, opens a door to each, and tests once more through it. A
// [Failed] says what is wrong with one.
func (how Opening) Open(ctx context.Context, names []string) (*Doors, error) {
	if len(names) > 1 && how.Run.Set["door"].Text != "" {
		return nil, world.Usage("--door is for one profile. To give each its own port: gharbor change NAME --door 6020")
	}
	how.together = len(names)
	folder, err := Folder(how.Run.World)
	if err != nil {
		return nil, err
	}
	held, err := door.List(ctx, folder)
	if err != nil {
		return nil, world.Doing("open a door", err)
	}
	d := &Doors{released: make(chan struct{})}
	for _, name := range names {
		one, err := how.one(ctx, name, folder, held)
		if err != nil {
			d.Close(0)
			return nil, err
		}
		d.List = append(d.List, one)
	}
	if slices.ContainsFunc(d.List, func(h *Held) bool { return h.Borrowed == 0 }) {
		if d.host, err = door.NewHost(ctx, folder, d.Records, d.release); err != nil {
			d.Close(0)
			return nil, world.Wrong("to let other commands ask about the door: %v", err)
		}
	}
	return d, nil
}

// Failed is a profile to which no door was opened.
type Failed struct {
	Profile profile.Effective
	Report  *checkup.Report
}

// Error gives the finding's cause.
func (f *Failed) Error() string { return f.Report.Finding.Cause }

// withoutLogin reports whether a door may be opened although a test did not get as far as the
// login: no password was found, and clients bring their own. Any other finding about a secret
// ends it.
func withoutLogin(report *checkup.Report) bool {
	return report.Finding != nil && slices.Contains([]finding.Code{finding.SecretNone,
		finding.SecretNobodyToAsk}, report.Finding.Code)
}

// asSocket decides whether a door is a socket.
func (how Opening) asSocket(p profile.Effective) (bool, error) {
	asked := p.Values["door"].Text
	if how.Socket && asked != "" && p.Values["door"].Origin.Layer == profile.LayerFlag {
		return true, world.Usage("--door is a port, and --door-socket a socket; write one of them, such as --door-socket")
	}
	if p.TLS.Cert == "" || how.Passing || how.Socket {
		return how.Socket, nil
	}
	// The door logs in with the certificate, whoever the client is: only this account may be a client.
	if asked != "" {
		return false, world.Wrong("%s has a client certificate, so that any account of this machine would be "+
			"let in at port %s; open the door as a socket with --door-socket (and without the setting door), or "+
			"leave encryption to the client with --pass-through",
			p.Name, asked)
	}
	return true, nil
}

func (how Opening) one(ctx context.Context, name, folder string, held []door.Record) (*Held, error) {
	to, err := how.Run.Aim(ctx, name, false)
	if err != nil {
		return nil, err
	}
	if info, is := known.Info(to.Engine); is && !info.Able(engine.Leads) && !how.Passing {
		return nil, world.Wrong("a door cannot %s to %s yet; to pass on what they say, without a look at it: "+
			"gharbor hold %s --pass-through",
			engine.Leads, info.Title, name)
	}
	if how.Socket, err = how.asSocket(to.Effective); err != nil {
		return nil, err
	}
	settings := settingsDigest(to.Effective, how)
	i := slices.IndexFunc(held, func(h door.Record) bool { return h.Profile == name && h.State != door.Gone })
	borrows := i >= 0 && how.Borrow && held[i].Settings == settings && held[i].State == door.Open
	if asked := to.Effective.Values["door"].Text; borrows && asked != "" && asked != strconv.Itoa(held[i].Port) {
		borrows = false
	}
	if i >= 0 && !borrows && !how.Borrow {
		return nil, world.Wrong("%s has a door already, at %s, in process %d; gharbor release %s ends it", name,
			placeOfDoor(held[i]), held[i].PID, name)
	}
	report, err := how.Run.Test(ctx, to, nil)
	if err != nil {
		return nil, err
	}
	if !report.OK && !withoutLogin(report) {
		return nil, &Failed{to.Effective, report}
	}
	if !report.OK && checkup.Expects(to.Effective) {
		how.Run.Note("%s has expectations, and a login must show that they are met before its door is opened: "+
			"that needs the password",
			name)
		return nil, &Failed{to.Effective, report}
	}
	if report.Another != "" {
		how.Run.Note("%s", report.Another)
	}
	if to.Guard != "" && guard.Level(to.Guard) != guard.None {
		how.Run.Note("the guard of %s (%s) does not hold behind a door: a program can change there what its user may",
			name, to.Guard)
	}
	if report.OK && report.Led != "" {
		return nil, world.Wrong("the primary is %s, as the server at %s says, and the alias %s does not list it: a door "+
			"goes only where the alias leads. Add that address to the alias: gharbor alias show %s", report.Served, report.Led,
			to.Alias, to.Alias)
	}
	p, err := how.Run.Concrete(ctx, to.Effective)
	if err != nil {
		return nil, err
	}
	h := &Held{Profile: p, Report: report, Passing: how.Passing, settings: settings}
	checker := how.Run.Checker(to)
	if report.OK {
		found, err := how.Run.Held(ctx, to)
		if err != nil {
			return nil, err
		}
		if h.Password, err = found.Secret(nil); err != nil {
			return nil, err
		}
		if p.User == "" {
			p.User = found.Source.User
			h.Profile.User = p.User
		}
		checker.Stores.Before = &found
	}
	if borrows {
		h.Host, h.Port, h.Socket, h.Since, h.Borrowed = held[i].Host, held[i].Port, held[i].Socket, held[i].Since, held[i].PID
		h.naming()
		return h, nil
	}
	return h, how.unlock(ctx, to, h, checker, folder)
}

// unlock opens a door that was tested before, and tests once more through it.
func (how Opening) unlock(ctx context.Context, to harbor.Aim, h *Held, checker checkup.Checker, folder string) error {
	p := h.Profile
	path, opened, err := checker.Path(ctx, to.Admitted)
	if err != nil {
		return err
	}
	if path == nil {
		return &Failed{p, opened}
	}
	lines, opened, err := checker.Lines(ctx, to.Admitted)
	if err == nil && lines == nil {
		err = &Failed{p, opened}
	}
	if err != nil {
		_ = path.Close()
		return err
	}
	quiet := checker
	quiet.Hops = how.Run.QuietHops
	h.why = func(problem error) string { return why(to.Admitted, checker, problem) }
	say := func(state door.State, why error) {
		if how.Tell != nil {
			how.Tell(p.Name, state, h.why(why))
		}
	}
	keeping := door.Keeping{Tell: say, Open: func(ctx context.Context) (*route.Path, error) {
		if err := to.Admitted.Again(); err != nil {
			return nil, &finding.Problem{Code: finding.SettingsNotAgreed, Err: err}
		}
		path, _, err := quiet.Again(ctx, to.Admitted)
		return path, err
	}}
	same := &sameness{run: how.Run, to: to, name: p.Name, checker: quiet, marks: h.Report.Marks, pinned: h.Report.OK}
	if h.Report.OK && h.Report.Server != nil {
		same.identity, same.expects = h.Report.Server.Identity, checkup.Expects(p)
	}
	keeping.Same = same.look
	if n := len(h.Report.Attempts); p.Wants != "" && n > 0 && h.Report.OK {
		keeping.Only = h.Report.Attempts[n-1].Address // a door cannot ask for the role
	}
	h.keeper = door.Keep(ctx, path, keeping)
	listener, err := how.listen(ctx, p, folder, h)
	if err != nil {
		h.keeper.Close()
		return err
	}
	h.naming()
	way := door.Way{
		Keeper: h.keeper, Word: h.why, Account: door.Account,
		Line: func(c route.Connected) (engine.Line, error) {
			if err := to.Admitted.Again(); err != nil {
				return engine.Line{}, &finding.Problem{Code: finding.SettingsNotAgreed, Err: err}
			}
			return lines(c.At, c.Met), nil
		},
		Login: engine.Login{Methods: p.LoginMethods, Leg: p.Leg}, Encrypts: p.TLS.Mode != "off",
		Tell: quietly(h, say), Limits: door.LimitsOf(how.together, door.Descriptors()),
	}
	e := known.Engine(p.Engine)
	if usher, can := e.(engine.Usher); can && !how.Passing {
		way.Usher = usher
	}
	if refuser, can := e.(engine.Refuser); can {
		way.Refuse = func(conn net.Conn, problem error) { refuser.Refuse(conn, h.why(problem)) }
	}
	h.door = door.Serve(ctx, listener, way)
	h.Since = how.Run.Now()
	if !h.Report.OK {
		return nil
	}
	caller := h.door.Call()
	through := checker
	through.Door = &checkup.Through{At: route.Address{Network: listener.Addr().Network(), Host: h.Host,
		Port: h.Port, Dial: caller, Written: h.Report.Served}}
	if h.Socket != "" {
		through.Door.At.Host = h.Socket
	}
	if !how.Passing {
		through.Door.Encrypted = caller.Encrypted
	} else if through.Door.At.Written.Kind == target.Host {
		through.Door.At.ServerName = through.Door.At.Written.Name
	}
	again, err := through.Test(ctx, to.Admitted)
	if err == nil && again.OK && again.Server != nil && again.Server.Identity != same.identity {
		again.Fail(checker.Describe(ctx, to.Admitted, anotherServer(same.identity, again.Server.Identity), ""))
	}
	if err == nil && !again.OK {
		err = &Failed{p, again}
	}
	if err != nil {
		h.close(0)
	}
	return err
}

// settingsDigest gives a digest of all that decides what a door leads to, and how.
func settingsDigest(p profile.Effective, how Opening) string {
	said := map[string]any{"pass-through": how.Passing, "socket": how.Socket}
	for name, value := range p.Values {
		if s, _ := profile.Find(name); s.Aside || strings.HasPrefix(name, "hand-over.") {
			continue // words for people, the door's own place, and what a program is handed
		}
		said[name] = []any{value.Text, value.List}
	}
	data, err := json.Marshal(said)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// socketFolder gives the folder of a door's socket: no two profiles have the same, and its path
// stays short enough for a socket.
func socketFolder(folder, name string) string {
	plain := filepath.Join(folder, "at-"+strings.NewReplacer("/", "~", ":", "~~").Replace(name))
	if len(plain) <= 80 {
		return plain
	}
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(folder, "at~"+hex.EncodeToString(sum[:8]))
}

// listen opens the door's own place on this machine.
func (how Opening) listen(ctx context.Context, p profile.Effective, folder string, h *Held) (net.Listener, error) {
	if how.Socket {
		if how.Passing && p.TLS.Mode != "off" {
			return nil, world.Wrong("%s has tls %s, and clients do not encrypt over a socket by themselves; "+
				"leave --pass-through out, and the door encrypts",
				p.Name, p.TLS.Mode)
		}
		info, _ := known.Info(p.Engine)
		name := "socket"
		if info.SocketFile != "" {
			name = info.SocketFile + strconv.Itoa(info.Port)
		}
		named := p.Name
		if how.Borrow { // it may be beside one that is held
			named += fmt.Sprintf("~~%d", os.Getpid())
		}
		dir := socketFolder(folder, named)
		_ = os.Remove(filepath.Join(dir, name)) // one that was left behind: a door that is open was looked for before
		listener, err := door.ListenSocket(dir, name)
		if err != nil {
			return nil, world.Wrong("the socket could not be made: %v", err)
		}
		h.Socket = filepath.Join(dir, name)
		return listener, nil
	}
	port, _ := strconv.Atoi(p.Values["door"].Text)
	var listener net.Listener
	var err error
	for tried := port; ; tried++ {
		listener, err = door.ListenTCP(tried)
		if err == nil || !how.Near || tried == 0 || tried >= min(port+100, 65535) || !errno.Is(err, errno.InUse) {
			break
		}
	}
	if errno.Is(err, errno.InUse) {
		return nil, world.Wrong("port %d of 127.0.0.1 is taken%s; take another with --door, or the next free one with --near",
			port, how.holder(ctx, folder, port))
	}
	if err != nil {
		return nil, world.Wrong("port %d of 127.0.0.1 cannot be used: %v", port, err)
	}
	h.Host, h.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	if port != 0 && h.Port != port {
		h.Taken = fmt.Sprintf("port %d is taken%s", port, how.holder(ctx, folder, port))
	}
	if conn, err := net.DialTimeout("tcp6", net.JoinHostPort("::1", strconv.Itoa(h.Port)),
		100*time.Millisecond); err == nil {
		_ = conn.Close()
		h.Beside = true
	}
	return listener, nil
}

// holder says who has a port of 127.0.0.1, as the end of a sentence: a door of this program's, a
// container, or a process; "" where that cannot be seen.
func (how Opening) holder(ctx context.Context, folder string, port int) string {
	list, _ := door.List(ctx, folder)
	for _, each := range list {
		if each.Port == port && each.State != door.Gone {
			return fmt.Sprintf(" by the door of %s (process %d)", each.Profile, each.PID)
		}
	}
	if engines, err := how.Run.Engines(); err == nil {
		asked, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		at := netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), uint16(port))
		if by, _ := container.PublishedBy(container.Here(asked, engines), at); by != nil {
			return " by the container " + by.Words().Words()
		}
	}
	return discover.Holder(ctx, port)
}
