package harbor

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Opening says how doors are to be opened.
type Opening struct {
	Port   int  // the port on this machine; 0 for the profile's own, else any free one
	Near   bool // when it is taken, take the next free one
	Socket bool // a Unix socket for this account alone, in the place of a port
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
	Profile  profile.Effective
	Report   *checkup.Report // of the test before it was opened
	Host     string
	Port     int
	Socket   string
	Since    time.Time
	Password secret.Secret // not given where none was found
	// Named is the name that a client must check in the server's certificate, "" for none. Untold says that the connection string cannot
	// tell it.
	Named  string
	Untold bool
	// Beside says that another program listens on the same port of ::1, where clients of "localhost" may end up.
	Beside bool

	keeper *door.Keeper
	door   *door.Door
	closed bool
}

// DoorFolder is where the processes with doors can be asked.
func (r *Run) DoorFolder() (string, error) {
	state, err := r.State()
	return filepath.Join(state, "doors"), err
}

// OpenDoors tests the profiles of some names, opens a door to each, and tests once more through it. A [Failed] with a report says what is
// wrong with one. Tell is told of each change of a door's state.
func (r *Run) OpenDoors(ctx context.Context, names []string, how Opening, tell func(profile string, state door.State, why string)) (*Doors, error) {
	if len(names) > 1 && how.Port != 0 {
		return nil, Usage("--port is for one profile; a profile's own port is its setting door")
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
		if i := slices.IndexFunc(held, func(h door.Record) bool { return h.Profile == name && h.State != door.Gone }); i >= 0 {
			d.Close(0)
			return nil, Wrong("%s has a door already, at %s, in process %d; gharbor release %s ends it", name, placeOfDoor(held[i]), held[i].PID, name)
		}
		one, err := r.openDoor(ctx, name, how, folder, tell)
		if err != nil {
			d.Close(0)
			return nil, err
		}
		d.List = append(d.List, one)
	}
	if d.host, err = door.NewHost(ctx, folder, d.Records, d.release); err != nil {
		d.Close(0)
		return nil, Wrong("%v", err)
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

func (r *Run) openDoor(ctx context.Context, name string, how Opening, folder string, tell func(string, door.State, string)) (*Held, error) {
	to, err := r.Aim(ctx, name, false)
	if err != nil {
		return nil, err
	}
	report, err := r.Test(ctx, to, nil)
	if err != nil {
		return nil, err
	}
	if !report.OK && report.Finding.Leg != "secret" {
		return nil, &DoorFailed{to.Effective, report}
	}
	p, err := r.concrete(ctx, to.Effective)
	if err != nil {
		return nil, wordCloud(err)
	}
	h := &Held{Profile: p, Report: report}
	if !report.OK && (report.Finding.Leg != "secret" || report.Finding.Code == finding.SecretContainerChanged) {
		return nil, &DoorFailed{p, report}
	}
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
	path, opened, err := checker.Path(ctx, to.Admitted)
	if err != nil {
		return nil, err
	}
	if path == nil {
		return nil, &DoorFailed{p, opened}
	}
	quiet := checker
	quiet.Hops = r.quietHops
	only := ""
	if n := len(h.Report.Attempts); h.Profile.Wants != "" && n > 0 && h.Report.OK {
		only = h.Report.Attempts[n-1].Address // a door cannot ask for the role
	}
	h.keeper = door.Keep(ctx, path, only, func(ctx context.Context) (*route.Path, error) {
		if err := to.Admitted.Again(); err != nil {
			return nil, &finding.Problem{Code: finding.SettingsNotAgreed, Err: err}
		}
		path, _, err := quiet.Again(ctx, to.Admitted)
		return path, err
	}, func(state door.State, why error) {
		if tell != nil {
			tell(p.Name, state, r.why(to.Admitted, checker, why))
		}
	})
	listener, err := r.listen(p, how, folder, h)
	if err != nil {
		h.keeper.Close()
		return nil, err
	}
	h.door = door.Serve(ctx, h.keeper, listener, func(conn net.Conn, problem error) {
		if e, ok := known.Engine(p.Engine).(engine.Refuser); ok {
			e.Refuse(conn, r.why(to.Admitted, checker, problem))
		}
	})
	h.Since = time.Now()
	if !report.OK {
		return h, nil
	}
	through := checker
	through.Door = &route.Address{Network: listener.Addr().Network(), Host: h.Host, Port: h.Port, Dial: &net.Dialer{}, Met: route.Same, Written: h.Report.Served}
	if through.Door.Written.Kind == target.Host {
		through.Door.ServerName = through.Door.Written.Name
	}
	if h.Socket != "" {
		through.Door.Host = h.Socket
	}
	again, err := through.Test(ctx, to.Admitted)
	if err == nil && !again.OK {
		err = &DoorFailed{p, again}
	}
	if err != nil {
		h.close(0)
		return nil, err
	}
	return h, nil
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

// listen opens the door's own place on this machine.
func (r *Run) listen(p profile.Effective, how Opening, folder string, h *Held) (net.Listener, error) {
	if how.Socket {
		if p.TLS.Mode != "off" {
			return nil, Wrong("%s wants tls %s, and clients do not encrypt over a socket; open the door on a port: leave --socket out", p.Name, p.TLS.Mode)
		}
		info, _ := known.Info(p.Engine)
		name := "socket"
		if info.SocketFile != "" {
			name = info.SocketFile + strconv.Itoa(info.Port)
		}
		dir := filepath.Join(folder, "at-"+strings.ReplaceAll(p.Name, "/", "-"))
		_ = os.Remove(filepath.Join(dir, name)) // one that was left behind: a door that is open was looked for before
		listener, err := door.ListenSocket(dir, name)
		if err != nil {
			return nil, Wrong("the socket could not be made: %v", err)
		}
		h.Socket = filepath.Join(dir, name)
		return listener, nil
	}
	port := how.Port
	if port == 0 {
		port, _ = strconv.Atoi(p.Values["door"].Text)
	}
	var listener net.Listener
	var err error
	for tried := port; ; tried++ {
		listener, err = door.ListenTCP(tried)
		if err == nil || !how.Near || tried == 0 || tried >= min(port+100, 65535) || !errors.Is(err, syscall.EADDRINUSE) {
			break
		}
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, Wrong("port %d of 127.0.0.1 is taken%s; take another with --port, or the next free one with --near", port, r.holder(port))
	}
	if err != nil {
		return nil, Wrong("port %d of 127.0.0.1 cannot be used: %v", port, err)
	}
	h.Host, h.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	if conn, err := net.DialTimeout("tcp6", net.JoinHostPort("::1", strconv.Itoa(h.Port)), 100*time.Millisecond); err == nil {
		_ = conn.Close()
		h.Beside = true
	}
	_, told := p.AtDoor(h.Port)
	if h.Untold = !told; p.TLS.Mode == "verify" || h.Untold {
		if h.Named = p.TLS.ServerName; h.Named == "" {
			h.Named = p.Host
		}
	}
	return listener, nil
}

// holder says who has a port, where it is a door of this tool's; "" where that is not known.
func (r *Run) holder(port int) string {
	folder, err := r.DoorFolder()
	if err != nil {
		return ""
	}
	list, _ := door.List(context.Background(), folder)
	for _, each := range list {
		if each.Port == port && each.State != door.Gone {
			return fmt.Sprintf(" by the door of %s (process %d)", each.Profile, each.PID)
		}
	}
	return ""
}

// URI gives the connection string for the door, with the password where one is given.
func (h *Held) URI(password secret.Secret) string {
	at := h.Profile.AtDoorSocket(h.Socket)
	if h.Socket == "" {
		at, _ = h.Profile.AtDoor(h.Port)
	}
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
	state, problem := h.keeper.State()
	rec := door.Record{Profile: h.Profile.Name, Host: h.Host, Port: h.Port, Socket: h.Socket, State: state, Since: h.Since, PID: os.Getpid(), Connections: h.door.Connections(), Target: h.Profile.Target()}
	var p *finding.Problem
	if errors.As(problem, &p) {
		rec.Why = string(p.Code)
	}
	return rec
}

func (h *Held) close(drain time.Duration) {
	if h.closed {
		return
	}
	h.closed = true
	if h.door != nil {
		h.door.Close(drain)
	}
	h.keeper.Close()
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
		if !h.closed {
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
		for _, name := range []string{"host", "port", "user", "database"} {
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
		for _, name := range []string{"host", "port", "user", "database"} {
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
