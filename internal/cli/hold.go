package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"

	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/child"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/doors"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
)

var holdCommand = command{
	name: "hold", synopsis: "NAME…", about: "open a door on this machine to a server, for other programs, until " +
		"you close it",
	text: `The profile is tested, a door is opened on 127.0.0.1, and the profile is tested once more through it. Then host, port, user and
database are printed for pasting. Any program of this machine can connect to the door while it is open; the server still wants its own
login. The door encrypts to the server as the profile's tls says: clients connect to it without TLS. When a hop dies, the route is opened
anew, and new connections wait meanwhile. Ctrl-C closes the door.

With --pass-through the door passes bytes, and each client encrypts by itself; its connection string then works in the engine's own library
alone. A profile with a client certificate gets a socket, since the door logs in with the certificate for every client.`,
	examples: []string{"gharbor hold huts/staging", "gharbor hold huts/staging --door 6432",
		"gharbor hold huts/staging --background --for 8h", "gharbor hold huts/local --door-socket"},
	settings: true, connects: true, json: true,
	options: optionsOf[holdOptions],
}

type holdOptions struct {
	doors.Opening
	background bool
	span       time.Duration
}

// doorFlags makes the flags that say how a door is opened. Its port is the setting door.
func doorFlags(fs flagSet, o *doors.Opening) {
	fs.onFlag("near", &o.Near)
	fs.onFlag("door-socket", &o.Socket)
	fs.onFlag("pass-through", &o.Passing)
}

// ofDoor marks the options of commands that open doors.
func (o *holdOptions) ofDoor() {}

// doorsOwn refuses what would once have been about the door, and is about the server now.
func doorsOwn(set profile.Layer) error {
	_, port := set["port"]
	_, socket := set["socket"]
	_, host := set["host"]
	switch {
	case socket:
		return errDoorSocket
	case port && !host:
		return usage("--port is the server's port in other commands; for the door's own port, write: --door 6020")
	}
	return nil
}

func (o *holdOptions) flags(fs flagSet, _ *harbor.Run) {
	doorFlags(fs, &o.Opening)
	fs.onFlag("background", &o.background)
	fs.spanFlag("for", 0, &o.span)
}

func (o *holdOptions) run(ctx context.Context, c *call) error {
	if err := doorsOwn(c.Set); err != nil {
		return err
	}
	names, err := c.profiles()
	if err != nil {
		return err
	}
	if o.background {
		return o.behind(ctx, c, names)
	}
	o.Run, o.Tell = c.Run, c.tellDoor
	doors, err := o.Open(ctx, names)
	if err != nil {
		return c.doorFailed(err)
	}
	defer doors.Close(time.Second)
	if c.json {
		if err := report.JSON(c.Stdout, doorsJSON(doors.Records(), doors)); err != nil {
			return err
		}
	} else {
		for _, h := range doors.List {
			c.printDoor(h)
		}
		fmt.Fprintln(c.Stderr, "Ctrl-C closes it.")
	}
	return o.stay(ctx, c, doors)
}

// stay waits for the end. The time of --for is that of the clock on the wall: sleep counts.
func (o *holdOptions) stay(ctx context.Context, c *call, doors *doors.Doors) error {
	end := time.Now().Add(o.span).Round(0) // without the reading of the clock that stops while the machine sleeps
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			fmt.Fprintln(c.Stderr, "closed")
			return nil
		case <-doors.Released():
			fmt.Fprintln(c.Stderr, "released by another command")
			return nil
		case <-ticker.C:
			if o.span > 0 && time.Now().Round(0).After(end) {
				fmt.Fprintf(c.Stderr, "closed after %s\n", o.span)
				return nil
			}
		}
	}
}

func (c *call) tellDoor(profile string, state door.State, why string) {
	line := time.Now().Format("15:04:05") + "  " + outside.Cell(profile) + ": " + string(state)
	if why != "" {
		line += ": " + why
	}
	if state == door.NeedsYou {
		line += " (gharbor test " + outside.Cell(profile) + " says what to do)"
	}
	if state != door.Closed {
		fmt.Fprintln(c.Stderr, line)
	}
}

// printDoor says where a door is, for pasting.
func (c *call) printDoor(h *doors.Held) {
	w := c.Stdout
	fmt.Fprintf(w, "%s  %s\n\n", paint(w, strong, h.Profile.Name), report.Describe(h.Profile))
	if way := report.Route(h.Profile); way != "" {
		report.Wrapped(w, "  ", "    ", way)
		fmt.Fprintln(w)
	}
	row := func(name, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-9s %s\n", name, outside.Cell(value))
		}
	}
	if h.Socket != "" {
		row("socket", h.Socket)
	} else {
		row("host", h.Host)
		row("port", strconv.Itoa(h.Port))
	}
	row("user", h.Profile.User)
	row("database", h.Profile.Database)
	row("string", h.URI(secret.Secret{}))
	fmt.Fprintln(w)
	noted := false
	note := func(format string, more ...any) {
		noted = true
		report.Wrapped(w, "  note: ", "        ", fmt.Sprintf(format, more...))
	}
	if !h.Report.OK {
		note("No password was found, so only the route was tested, and not the login.")
	}
	if h.Taken != "" {
		note("%s, so the next free one is used.", outside.Cell(strings.ToUpper(h.Taken[:1])+h.Taken[1:]))
	}
	if h.Socket == "" {
		note("Every user of this machine can connect to this port; the server still asks for its own login. " +
			"With --door-socket your account alone can.")
	}
	switch {
	case !h.Passing && h.Profile.TLS.Mode != "off":
		note("The door encrypts to the server (tls %s). Clients connect to it without TLS, as the string says.",
			h.Profile.TLS.Mode)
	case h.Passing && h.Profile.TLS.Mode != "off":
		note("Each client encrypts by itself. The string is for the engine's own library; other clients may " +
			"look the host's name up, and then miss the door.")
	}
	switch {
	case h.Untold:
		note("The server's certificate is for %s. Have the client check that name, since the connection string cannot.",
			outside.Cell(h.Named))
	case h.Named != "":
		note("The server's certificate is for %s. A client that does not take the connection string must be "+
			"told to check that name.",
			outside.Cell(h.Named))
	}
	if h.Beside {
		note("Another program listens on the same port of ::1. Use 127.0.0.1, and not localhost.")
	}
	if noted {
		fmt.Fprintln(w)
	}
}

// doorJSON is a door as JSON has it.
type doorJSON struct {
	door.Record
	URI string `json:"uri,omitempty"`
}

func doorsJSON(records []door.Record, doors *doors.Doors) map[string]any {
	list := []doorJSON{}
	for i, each := range records {
		one := doorJSON{Record: each}
		if doors != nil {
			one.URI = doors.List[i].URI(secret.Secret{})
		}
		list = append(list, one)
	}
	return map[string]any{"doors": list}
}

// doorFailed shows why a door was not opened: the test that failed.
func (c *call) doorFailed(err error) error {
	var failed *doors.Failed
	if !errors.As(err, &failed) {
		return c.failed(err)
	}
	if c.json {
		if err := report.JSON(c.Stdout, failed.Report); err != nil {
			return err
		}
	} else {
		report.Test(c.Stdout, failed.Profile, failed.Report)
	}
	return world.Error{Code: failed.Report.Exit}
}

// behind starts the same command without a terminal, waits until its doors are open, and leaves
// it running.
func (o *holdOptions) behind(ctx context.Context, c *call, names []string) error {
	folder, err := doors.Folder(c.World)
	if err != nil {
		return err
	}
	if err := files.Settle(folder); err != nil {
		return world.Doing("open a door", err)
	}
	program, err := os.Executable()
	if err != nil {
		return world.Doing("open a door in the background", err)
	}
	log, err := os.CreateTemp(folder, "log-*")
	if err != nil {
		return world.Doing("open a door in the background", err)
	}
	defer os.Remove(log.Name())
	defer log.Close()
	args := slices.DeleteFunc(slices.Clone(c.Args), func(arg string) bool {
		return arg == "--background" || arg == "-background"
	})
	cmd := exec.Command(program, args...)
	cmd.Env, cmd.Dir, cmd.Stdout, cmd.Stderr = c.Environ, c.Dir, log, log
	if err := child.Detached(cmd).Start(); err != nil {
		return wrong("it could not be started: %v", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	const last = "Ctrl-C closes it.\n"
	said := func() string {
		data, _ := os.ReadFile(log.Name())
		return strings.TrimSuffix(string(data), last)
	}
	// The doors are open a moment before the other process has said where they are.
	told := func() bool {
		data, _ := os.ReadFile(log.Name())
		return bytes.HasSuffix(data, []byte(last)) || c.json && bytes.HasSuffix(data, []byte("}\n"))
	}
	for {
		select {
		case err := <-ended:
			_, _ = io.WriteString(c.Stdout, said())
			var code *exec.ExitError
			if errors.As(err, &code) {
				return world.Error{Code: code.ExitCode()}
			}
			return wrong("it ended immediately")
		case <-ctx.Done():
			_ = cmd.Process.Kill()
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		list, err := doors.Opened(ctx, c.World)
		if err != nil {
			return err
		}
		open := 0
		for _, each := range list {
			if each.PID == cmd.Process.Pid {
				open++
			}
		}
		if open == len(names) && told() {
			_, _ = io.WriteString(c.Stdout, said())
			if !c.json {
				fmt.Fprintf(c.Stderr,
					"It runs in the background, as process %d. gharbor doors lists it; gharbor release %s ends it.\n",
					cmd.Process.Pid, outside.Cell(names[0]))
			}
			return nil
		}
	}
}

var doorsCommand = command{
	name: "doors", synopsis: "[NAME]", about: "list the open doors of your account, or show one",
	examples: []string{"gharbor doors", "gharbor doors huts/staging", "gharbor doors --json"},
	json:     true,
	options:  without(runDoors),
}

func runDoors(ctx context.Context, c *call) error {
	if len(c.names) > 1 {
		return usage("doors takes one name at most: gharbor doors huts/staging")
	}
	list, err := doors.Opened(ctx, c.World)
	if err != nil {
		return err
	}
	if len(c.names) == 1 {
		if list = slices.DeleteFunc(list, func(each door.Record) bool { return each.Profile != c.names[0] }); len(list) == 0 {
			return wrong("%s has no open door; gharbor doors lists those there are", clip(c.names[0]))
		}
	}
	if c.json {
		return report.JSON(c.Stdout, doorsJSON(list, nil))
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "No door is open. To open one: gharbor hold NAME")
		return nil
	}
	if len(c.names) == 1 {
		for _, each := range list {
			c.showDoor(each)
		}
		return nil
	}
	var rows [][]string
	for _, each := range list {
		state := string(each.State)
		if each.Code != "" {
			state += " (" + each.Code + ")"
		}
		rows = append(rows, []string{outside.Cell(each.Profile), outside.Cell(doorAt(each)),
			outside.Cell(state), strconv.Itoa(each.Connections), each.Since.Local().Format("2006-01-02 15:04"),
			strconv.Itoa(each.PID), outside.Cell(placeOf(each.Target))})
	}
	report.Table(c.Stdout, []string{"profile", "door", "state", "connections", "since", "pid", "leads to"}, rows, nil)
	return nil
}

func doorAt(each door.Record) string {
	if each.Socket != "" {
		return each.Socket
	}
	return each.Host + ":" + strconv.Itoa(each.Port)
}

// showDoor says all of one door.
func (c *call) showDoor(each door.Record) {
	w := c.Stdout
	fmt.Fprintf(w, "%s\n\n", paint(w, strong, outside.Cell(each.Profile)))
	row := func(name, value string) {
		if value != "" {
			report.Wrapped(w, fmt.Sprintf("  %-9s ", name), strings.Repeat(" ", 12), outside.Cell(value))
		}
	}
	row("door", doorAt(each))
	row("route", strings.Join(append(append([]string{"this machine"}, each.Target.Hops...),
		each.Target.Address().String()), " → "))
	state := string(each.State)
	if !each.Changed.IsZero() {
		state += " since " + each.Changed.Local().Format("2006-01-02 15:04:05")
	}
	row("state", state)
	row("reason", each.Why)
	row("next", each.Next)
	row("clients", strconv.Itoa(each.Connections))
	row("opened", each.Since.Local().Format("2006-01-02 15:04:05")+", by process "+strconv.Itoa(each.PID))
	encryption := "by the door, tls " + each.Target.TLS
	switch {
	case each.Passing:
		encryption = "by each client; the door passes bytes"
	case each.Target.TLS == "off":
		encryption = "no"
	}
	row("encrypted", encryption)
	fmt.Fprintln(w)
}

var releaseCommand = command{
	name: "release", synopsis: "NAME | --all", about: "close a door",
	examples: []string{"gharbor release huts/staging", "gharbor release --all"},
	json:     true,
	options:  optionsOf[releaseOptions],
}

type releaseOptions struct{ all bool }

func (o *releaseOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("all", &o.all)
}

func (o *releaseOptions) run(ctx context.Context, c *call) error {
	name := ""
	if o.all == (len(c.names) > 0) || len(c.names) > 1 {
		return usage("release needs the name of one profile, or --all: gharbor release huts/staging")
	}
	if !o.all {
		name = c.names[0]
	}
	n, err := doors.Release(ctx, c.World, name)
	if err != nil {
		return err
	}
	if n == 0 && !o.all {
		return wrong("%s has no open door; gharbor doors lists those there are", clip(name))
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"released": n})
	}
	fmt.Fprintf(c.Stdout, "Closed %s.\n", report.Count(int64(n), "door"))
	return nil
}
