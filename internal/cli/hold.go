package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"

	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/door"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
)

var holdCommand = command{
	name: "hold", synopsis: "NAME…", about: "open a door on this machine to a server, for other programs, and hold it open",
	text: `The profile is tested, a door is opened on 127.0.0.1, and the profile is tested once more through it. Then host, port, user and
database are printed for pasting. Any program of this machine can connect to the door while it is open; the server still wants its own
login. When a hop dies, the way is opened anew, and new connections wait meanwhile. Ctrl-C closes the door.`,
	examples: []string{"gharbor hold huts/staging", "gharbor hold huts/staging --port 6432", "gharbor hold huts/staging --background --for 8h", "gharbor hold huts/local --socket"},
	connects: true, json: true,
	options: of[holdOptions],
}

type holdOptions struct {
	harbor.Opening
	background bool
	span       time.Duration
}

func (o *holdOptions) flags(fs *flag.FlagSet, _ *harbor.Run) {
	number(fs, "port", "the port on this machine (default: the profile's setting door, else any free one)", 1, 65535, &o.Port)
	fs.BoolVar(&o.Near, "near", false, "when the port is taken, take the next free one")
	fs.BoolVar(&o.Socket, "socket", false, "a Unix socket that your account alone can use, instead of a port")
	fs.BoolVar(&o.background, "background", false, "leave it running, and give the terminal back; gharbor doors lists it, gharbor release ends it")
	fs.DurationVar(&o.span, "for", 0, "close it by itself after this time, such as 8h")
}

func (o *holdOptions) run(ctx context.Context, c *call) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	if o.span < 0 {
		return usage("--for takes more than 0")
	}
	if o.background {
		return o.behind(ctx, c, names)
	}
	doors, err := c.OpenDoors(ctx, names, o.Opening, c.tellDoor)
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
func (o *holdOptions) stay(ctx context.Context, c *call, doors *harbor.Doors) error {
	end := time.Now().Add(o.span).Round(0) // without the reading of the clock that stands still while the machine sleeps
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
		line += " (close it with gharbor release " + outside.Cell(profile) + ", and hold it anew)"
	}
	if state != door.Closed {
		fmt.Fprintln(c.Stderr, line)
	}
}

// printDoor says where a door is, for pasting.
func (c *call) printDoor(h *harbor.Held) {
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
	note := func(format string, more ...any) {
		report.Wrapped(w, "  note: ", "        ", fmt.Sprintf(format, more...))
	}
	if !h.Report.OK {
		note("No password was found, so only the way was tested, and not the login.")
	}
	if h.Socket == "" {
		alone := ""
		if h.Profile.TLS.Mode == "off" {
			alone = " With --socket your account alone can."
		}
		note("Every user of this machine can connect to this port; the server still asks for its own login.%s", alone)
	}
	switch {
	case h.Untold:
		note("The server's certificate is for %s. Tell the client to check that name, since the connection string cannot.", outside.Cell(h.Named))
	case h.Named != "":
		note("The server's certificate is for %s. A client that does not take the connection string must be told to check that name.", outside.Cell(h.Named))
	}
	if h.Beside {
		note("Another program listens on the same port of ::1. Use 127.0.0.1, and not localhost.")
	}
	fmt.Fprintln(w)
}

// doorJSON is a door as JSON has it.
type doorJSON struct {
	door.Record
	URI string `json:"uri,omitempty"`
}

func doorsJSON(records []door.Record, doors *harbor.Doors) map[string]any {
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
	var failed *harbor.DoorFailed
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
	return exit{Code: failed.Report.Exit}
}

// behind starts the same command without a terminal, waits until its doors are open, and leaves it running.
func (o *holdOptions) behind(ctx context.Context, c *call, names []string) error {
	folder, err := c.DoorFolder()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return wrong("%v", err)
	}
	program, err := os.Executable()
	if err != nil {
		return wrong("%v", err)
	}
	log, err := os.CreateTemp(folder, "log-*")
	if err != nil {
		return wrong("%v", err)
	}
	defer os.Remove(log.Name())
	defer log.Close()
	args := slices.DeleteFunc(slices.Clone(c.Args), func(arg string) bool { return arg == "--background" || arg == "-background" })
	cmd := exec.Command(program, args...)
	cmd.Env, cmd.Dir, cmd.Stdout, cmd.Stderr = c.Environ, c.Dir, log, log
	alone(cmd)
	if err := cmd.Start(); err != nil {
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
				return exit{Code: code.ExitCode()}
			}
			return wrong("it ended at once")
		case <-ctx.Done():
			_ = cmd.Process.Kill()
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		list, err := c.OpenedDoors(ctx)
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
				fmt.Fprintf(c.Stderr, "It runs in the background, as process %d. gharbor doors lists it; gharbor release %s ends it.\n", cmd.Process.Pid, outside.Cell(names[0]))
			}
			return nil
		}
	}
}

var doorsCommand = command{
	name: "doors", synopsis: "", about: "list the doors that are held open by your account",
	examples: []string{"gharbor doors", "gharbor doors --json"},
	json:     true,
	options:  without(runDoors),
}

func runDoors(ctx context.Context, c *call) error {
	if len(c.names) > 0 {
		return usage("doors takes no name")
	}
	list, err := c.OpenedDoors(ctx)
	if err != nil {
		return err
	}
	if c.json {
		return report.JSON(c.Stdout, doorsJSON(list, nil))
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "No door is open; gharbor hold NAME opens one.")
		return nil
	}
	var rows [][]string
	for _, each := range list {
		place := each.Socket
		if place == "" {
			place = each.Host + ":" + strconv.Itoa(each.Port)
		}
		state := string(each.State)
		if each.Why != "" {
			state += " (" + each.Why + ")"
		}
		rows = append(rows, []string{outside.Cell(each.Profile), outside.Cell(place), outside.Cell(state), strconv.Itoa(each.Connections), each.Since.Local().Format("2006-01-02 15:04"), strconv.Itoa(each.PID), outside.Cell(placeOf(each.Target))})
	}
	report.Table(c.Stdout, []string{"profile", "door", "state", "connections", "since", "process", "leads to"}, rows, nil)
	return nil
}

var releaseCommand = command{
	name: "release", synopsis: "NAME | --all", about: "close a door that is held open",
	examples: []string{"gharbor release huts/staging", "gharbor release --all"},
	json:     true,
	options:  of[releaseOptions],
}

type releaseOptions struct{ all bool }

func (o *releaseOptions) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.BoolVar(&o.all, "all", false, "close every door of your account")
}

func (o *releaseOptions) run(ctx context.Context, c *call) error {
	name := ""
	if o.all == (len(c.names) > 0) || len(c.names) > 1 {
		return usage("release takes the name of one profile, or --all")
	}
	if !o.all {
		name = c.names[0]
	}
	n, err := c.ReleaseDoor(ctx, name)
	if err != nil {
		return err
	}
	if n == 0 && !o.all {
		return wrong("%s has no open door; gharbor doors lists those there are", clip(name))
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"released": n})
	}
	fmt.Fprintf(c.Stdout, "Closed %s.\n", counted(n, "door"))
	return nil
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
