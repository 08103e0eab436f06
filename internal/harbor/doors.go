package harbor

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Opening says how doors are to be opened. Their port is the setting door of each profile.
type Opening struct {
	Near    bool // when the port is taken, take the next free one
	Socket  bool // a Unix socket for this account alone, in the place of a port
	Passing bool // pass bytes, and leave encryption to the clients
	// Borrow uses a door that is held open with the same settings.
	Borrow bool
}

// Doors are the doors that this process holds open.
type Doors struct {
	List []*Held
	host *door.Host
	mu   sync.Mutex
	// Released is told when another process asks for the end of the last door.
	released chan struct{}
}

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
	// Named is the name that a client must check in the server's certificate, "" for none. Untold says that the connection string cannot
	// tell it.
	Named  string
	Untold bool
	// Beside says that another program listens on the same port of ::1, where clients of "localhost" may end up.
	Beside bool
	// Taken says that the port that was asked for is taken, and by whom; "" where it is not.
	Taken string
	// Borrowed is the process that holds the door, 0 for this one.
	Borrowed int

	settings string // a digest of those that the door was opened with
	why      func(error) string
	keeper   *door.Keeper
	door     *door.Door
	closed   bool
}

// DoorFolder is where the processes with doors can be asked.
func (r *Run) DoorFolder() (string, error) {
	state, err := r.State()
	return filepath.Join(state, "doors"), err
}

// OpenDoors tests the profiles of some names, opens a door to each, and tests once more through it. A [DoorFailed] says what is wrong with
// one. Tell is told of each change of a door's state, and, with the state that it has, of clients that are not let in.
func (r *Run) OpenDoors(ctx context.Context, names []string, how Opening, tell func(profile string, state door.State, why string)) (*Doors, error) {
	if len(names) > 1 && r.Set["door"].Text != "" {
		return nil, Usage("--door is for one profile; a profile's own port is its setting door")
	}
	folder, err := r.DoorFolder()
	if err != nil {
		return nil, err
	}
	held, err := door.List(ctx, folder)
	if err != nil {
		return nil, Wrong("%v", err)
	}
	d := &Doors{released: make(chan struct{})}
	for _, name := range names {
		one, err := r.openDoor(ctx, name, how, folder, held, tell)
		if err != nil {
			d.Close(0)
			return nil, err
		}
		d.List = append(d.List, one)
	}
	if slices.ContainsFunc(d.List, func(h *Held) bool { return h.Borrowed == 0 }) {
		if d.host, err = door.NewHost(ctx, folder, d.Records, d.release); err != nil {
			d.Close(0)
			return nil, Wrong("to let other commands ask about the door: %v", err)
		}
	}
	return d, nil
}

func placeOfDoor(h door.Record) string {
	if h.Socket != "" {
		return h.Socket
	}
	return net.JoinHostPort(h.Host, strconv.Itoa(h.Port))
}

// DoorFailed is a profile to which no door was opened.
type DoorFailed struct {
	Profile profile.Effective
	Report  *checkup.Report
}

// Error gives the finding's cause.
func (f *DoorFailed) Error() string { return f.Report.Finding.Cause }

// withoutLogin reports whether a door may be opened although a test did not get as far as the login: no password was found, and clients
// bring their own. Any other finding about a secret ends it.
func withoutLogin(report *checkup.Report) bool {
	return report.Finding != nil && slices.Contains([]finding.Code{finding.SecretNone, finding.SecretNobodyToAsk}, report.Finding.Code)
}

// form decides whether a door is a socket.
func (how Opening) form(p profile.Effective) (Opening, error) {
	asked := p.Values["door"].Text
	if how.Socket && asked != "" && p.Values["door"].Origin.Layer == profile.LayerFlag {
		return how, Usage("--door is a port, and --door-socket a socket; give one of them")
	}
	if p.TLS.Cert == "" || how.Passing || how.Socket {
		return how, nil
	}
	// The door logs in with the certificate, whoever the client is: only this account may be a client.
	if asked != "" {
		return how, Wrong("%s has a client certificate, so that any account of this machine would be let in at port %s; open the door as a socket with --door-socket (and without the setting door), or leave encryption to the client with --pass-through", p.Name, asked)
	}
	how.Socket = true
	return how, nil
}

func (r *Run) openDoor(ctx context.Context, name string, how Opening, folder string, held []door.Record, tell func(string, door.State, string)) (*Held, error) {
	to, err := r.Aim(ctx, name, false)
	if err != nil {
		return nil, err
	}
	if how, err = how.form(to.Effective); err != nil {
		return nil, err
	}
	settings := settingsDigest(to.Effective, how)
	i := slices.IndexFunc(held, func(h door.Record) bool { return h.Profile == name && h.State != door.Gone })
	borrows := i >= 0 && how.Borrow && held[i].Settings == settings && held[i].State == door.Open
	if asked := to.Effective.Values["door"].Text; borrows && asked != "" && asked != strconv.Itoa(held[i].Port) {
		borrows = false
	}
	if i >= 0 && !borrows && !how.Borrow {
		return nil, Wrong("%s has a door already, at %s, in process %d; gharbor release %s ends it", name, placeOfDoor(held[i]), held[i].PID, name)
	}
	report, err := r.Test(ctx, to, nil)
	if err != nil {
		return nil, err
	}
	if !report.OK && !withoutLogin(report) {
		return nil, &DoorFailed{to.Effective, report}
	}
	if !report.OK && checkup.Expects(to.Effective) {
		r.Note("%s has expectations, and a login must show that they hold before its door is opened: that needs the password", name)
		return nil, &DoorFailed{to.Effective, report}
	}
	if report.Another != "" {
		r.Note("%s", report.Another)
	}
	p, err := r.concrete(ctx, to.Effective)
	if err != nil {
		return nil, wordCloud(err)
	}
	h := &Held{Profile: p, Report: report, Passing: how.Passing, settings: settings}
	checker := r.Checker(to.Known)
	if report.OK {
		found, err := r.held(ctx, to, to.Known)
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
		checker.Before = &found
	}
	if borrows {
		h.Host, h.Port, h.Socket, h.Since, h.Borrowed = held[i].Host, held[i].Port, held[i].Socket, held[i].Since, held[i].PID
		h.naming()
		return h, nil
	}
	return h, r.unlock(ctx, to, h, checker, how, folder, tell)
}

// unlock opens a door that was tested before, and tests once more through it.
func (r *Run) unlock(ctx context.Context, to Aim, h *Held, checker checkup.Checker, how Opening, folder string, tell func(string, door.State, string)) error {
	p := h.Profile
	path, opened, err := checker.Path(ctx, to.Admitted)
	if err != nil {
		return err
	}
	if path == nil {
		return &DoorFailed{p, opened}
	}
	lines, opened, err := checker.Lines(ctx, to.Admitted)
	if err == nil && lines == nil {
		err = &DoorFailed{p, opened}
	}
	if err != nil {
		_ = path.Close()
		return err
	}
	quiet := checker
	quiet.Hops = r.quietHops
	h.why = func(problem error) string { return r.why(to.Admitted, checker, problem) }
	say := func(state door.State, why error) {
		if tell != nil {
			tell(p.Name, state, h.why(why))
		}
	}
	keeping := door.Keeping{Tell: say, Open: func(ctx context.Context) (*route.Path, error) {
		if err := to.Admitted.Again(); err != nil {
			return nil, &finding.Problem{Code: finding.SettingsNotAgreed, Err: err}
		}
		path, _, err := quiet.Again(ctx, to.Admitted)
		return path, err
	}}
	same := &sameness{run: r, to: to, name: p.Name, checker: quiet, marks: h.Report.Marks, pinned: h.Report.OK}
	if h.Report.OK && h.Report.Server != nil {
		same.identity, same.expects = h.Report.Server.Identity, checkup.Expects(p)
	}
	keeping.Same = same.look
	if n := len(h.Report.Attempts); p.Wants != "" && n > 0 && h.Report.OK {
		keeping.Only = h.Report.Attempts[n-1].Address // a door cannot ask for the role
	}
	h.keeper = door.Keep(ctx, path, keeping)
	listener, err := r.listen(ctx, p, how, folder, h)
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
		Tell: quietly(h, say),
	}
	e := known.Engine(p.Engine)
	if usher, can := e.(engine.Usher); can && !how.Passing {
		way.Usher = usher
	}
	if refuser, can := e.(engine.Refuser); can {
		way.Refuse = func(conn net.Conn, problem error) { refuser.Refuse(conn, h.why(problem)) }
	}
	h.door = door.Serve(ctx, listener, way)
	h.Since = time.Now()
	if !h.Report.OK {
		return nil
	}
	caller := h.door.Call()
	through := checker
	through.Door = &checkup.Through{At: route.Address{Network: listener.Addr().Network(), Host: h.Host, Port: h.Port, Dial: caller, Written: h.Report.Served}}
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
		err = &DoorFailed{p, again}
	}
	if err != nil {
		h.close(0)
	}
	return err
}

// quietly tells of clients that are not let in: not what is the reason of the door's state, which was told, and the same at most once in ten
// seconds, whoever knocks how often.
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

// why words what keeps a door from letting through, in a sentence that is clean.
func (r *Run) why(a agree.Admitted, checker checkup.Checker, problem error) string {
	var p *finding.Problem
	if errors.As(problem, &p) {
		return outside.Text(checker.Describe(context.Background(), a, p, "").Cause) + " (" + string(p.Code) + ")"
	}
	if problem != nil && !errors.Is(problem, net.ErrClosed) {
		return outside.Text(problem.Error())
	}
	return ""
}

// socketFolder gives the folder of a door's socket: no two profiles have the same, and its path stays short enough for a socket.
func socketFolder(folder, name string) string {
	plain := filepath.Join(folder, "at-"+strings.NewReplacer("/", "~", ":", "~~").Replace(name))
	if len(plain) <= 80 {
		return plain
	}
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(folder, "at~"+hex.EncodeToString(sum[:8]))
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

// listen opens the door's own place on this machine.
func (r *Run) listen(ctx context.Context, p profile.Effective, how Opening, folder string, h *Held) (net.Listener, error) {
	if how.Socket {
		if how.Passing && p.TLS.Mode != "off" {
			return nil, Wrong("%s wants tls %s, and clients do not encrypt over a socket by themselves; leave --pass-through out, and the door encrypts", p.Name, p.TLS.Mode)
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
			return nil, Wrong("the socket could not be made: %v", err)
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
		return nil, Wrong("port %d of 127.0.0.1 is taken%s; take another with --door, or the next free one with --near", port, r.holder(ctx, port))
	}
	if err != nil {
		return nil, Wrong("port %d of 127.0.0.1 cannot be used: %v", port, err)
	}
	h.Host, h.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	if port != 0 && h.Port != port {
		h.Taken = fmt.Sprintf("port %d is taken%s", port, r.holder(ctx, port))
	}
	if conn, err := net.DialTimeout("tcp6", net.JoinHostPort("::1", strconv.Itoa(h.Port)), 100*time.Millisecond); err == nil {
		_ = conn.Close()
		h.Beside = true
	}
	return listener, nil
}

// holder says who has a port of 127.0.0.1, as the end of a sentence: a door of this program's, or a process; "" where that cannot be seen.
func (r *Run) holder(ctx context.Context, port int) string {
	folder, err := r.DoorFolder()
	if err != nil {
		return ""
	}
	list, _ := door.List(ctx, folder)
	for _, each := range list {
		if each.Port == port && each.State != door.Gone {
			return fmt.Sprintf(" by the door of %s (process %d)", each.Profile, each.PID)
		}
	}
	return discover.Holder(ctx, port)
}

// URI gives the connection string for the door, with the password where one is given.
func (h *Held) URI(password secret.Secret) string {
	at, _ := h.Profile.AtDoor(h.at())
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
		Profile: h.Profile.Name, Host: h.Host, Port: h.Port, Socket: h.Socket, State: state, Changed: changed, Since: h.Since, PID: os.Getpid(), Connections: h.door.Connections(),
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

// Records gives what is told of each door.
func (d *Doors) Records() []door.Record {
	d.mu.Lock()
	defer d.mu.Unlock()
	var list []door.Record
	for _, h := range d.List {
		if !h.closed && h.Borrowed == 0 {
			list = append(list, h.Record())
		}
	}
	return list
}

// release ends the door of a profile, when another process asks for it.
func (d *Doors) release(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	left := 0
	for _, h := range d.List {
		if h.Profile.Name == name {
			h.close(0)
		}
		if !h.closed {
			left++
		}
	}
	if left == 0 {
		select {
		case <-d.released:
		default:
			close(d.released)
		}
	}
}

// Released is closed when all doors were ended by others.
func (d *Doors) Released() <-chan struct{} { return d.released }

// Close ends all doors, after giving their connections a moment to end.
func (d *Doors) Close(drain time.Duration) {
	d.mu.Lock()
	var all sync.WaitGroup
	for _, h := range d.List {
		all.Go(func() { h.close(drain) })
	}
	all.Wait()
	d.mu.Unlock()
	if d.host != nil {
		d.host.Close()
	}
}

// OpenedDoors lists the doors of this account's processes.
func (r *Run) OpenedDoors(ctx context.Context) ([]door.Record, error) {
	folder, err := r.DoorFolder()
	if err != nil {
		return nil, err
	}
	list, err := door.List(ctx, folder)
	if err != nil {
		return nil, Wrong("%v", err)
	}
	return list, nil
}

// ReleaseDoor ends the door of a profile, "" for every one, and gives how many it ended.
func (r *Run) ReleaseDoor(ctx context.Context, name string) (int, error) {
	folder, err := r.DoorFolder()
	if err != nil {
		return 0, err
	}
	n, err := door.Release(ctx, folder, name)
	if err != nil {
		return n, Wrong("%v", err)
	}
	return n, nil
}

// doorVariables are the ends of the variables that say where a door is: those of the first door begin with GHARBOR_DOOR_, of others with
// GHARBOR_DOOR_ and their number.
var doorVariables = []string{"host", "port", "user", "database"}

// IsDoorVariable reports whether a variable is one that a program gets for a door. Where this program is run with doors, it has no meaning
// here, and is nothing to be warned of.
func IsDoorVariable(name string) bool {
	rest, ok := strings.CutPrefix(name, "GHARBOR_DOOR_")
	if number, after, two := strings.Cut(rest, "_"); two && number != "" && strings.Trim(number, "0123456789") == "" {
		rest = after
	}
	return ok && slices.Contains(doorVariables, strings.ToLower(rest)) && rest == strings.ToUpper(rest)
}

// Handed gives the variables that a program gets for doors: those of the first without a number, those of others with one, and what each
// profile hands over.
func (d *Doors) Handed() []string {
	var list []string
	set := func(name, value string) { list = append(list, name+"="+value) }
	for i, h := range d.List {
		prefix := "GHARBOR_DOOR_"
		if i > 0 {
			prefix += strconv.Itoa(i+1) + "_"
		}
		values := h.Values()
		for _, name := range doorVariables {
			set(prefix+strings.ToUpper(name), values[name])
		}
		if i == 0 {
			set("DATABASE_URL", values["uri"])
		}
		for _, name := range h.Profile.Values.Names() {
			if variable, ok := strings.CutPrefix(name, "hand-over."); ok {
				set(variable, values[h.Profile.Values[name].Text])
			}
		}
	}
	return list
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
	return map[string]string{"host": host, "port": port, "user": h.Profile.User, "database": h.Profile.Database, "uri": h.URI(h.Password), "secret": h.Password.Reveal()}
}

// fillable are the characters that a value may have which is put into an argument.
const fillable = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._:/@%+-"

// Fill puts the values of the first door into arguments that are one of {host}, {port}, {user} and {database}, or end in one behind an
// equals sign. A secret is never among them.
func (d *Doors) Fill(args []string) ([]string, error) {
	values := d.List[0].Values()
	filled := slices.Clone(args)
	for i, arg := range args {
		for _, name := range doorVariables {
			place := "{" + name + "}"
			if arg != place && !strings.HasSuffix(arg, "="+place) {
				continue
			}
			if strings.Trim(values[name], fillable) != "" || values[name] == "" {
				return nil, Wrong("the %s %q cannot be put into an argument safely; the program can read it from GHARBOR_DOOR_%s", name, outside.Text(values[name]), strings.ToUpper(name))
			}
			filled[i] = strings.TrimSuffix(arg, place) + values[name]
		}
	}
	return filled, nil
}

// Environment gives the environment of a program that runs with doors: this one without what overrides settings here, and with what is
// handed over.
func (r *Run) Environment(d *Doors) []string {
	var list []string
	for _, pair := range r.Environ {
		name, _, _ := strings.Cut(pair, "=")
		if !slices.ContainsFunc(profile.Settings, func(s profile.Setting) bool { return s.Variable() == name && name != "" }) {
			list = append(list, pair)
		}
	}
	return append(list, d.Handed()...)
}
