package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/demo"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/shell"
)

// demoCommand makes the command demo, which runs other commands with main.
func demoCommand(main func(*App, context.Context) int) *command {
	cmd := &command{
		name: "demo", synopsis: "[CHAPTER]", about: "show the tool at work on practice servers",
		text: `Practice servers are started inside this program, on loopback addresses; the real commands run against them, with a
sentence on each. Everything is kept in a temporary folder, and nothing is left behind. The chapters:

`,
		examples: []string{"gharbor demo", "gharbor demo secrets", "gharbor demo --all", "gharbor demo --stay"},
		options:  func() options { return &demoOptions{main: main} },
	}
	for _, each := range demo.Chapters {
		cmd.text += fmt.Sprintf("  %-24s  %s\n", strings.TrimSpace("gharbor demo "+each.Name), each.About)
	}
	cmd.text += `
With --stay the servers stay up, and what is printed sets a shell up to try the commands by hand; Ctrl-C ends them.`
	return cmd
}

type demoOptions struct {
	main      func(*App, context.Context) int
	all, stay bool
	settings  string
}

func (o *demoOptions) flags(set flagSet, _ *harbor.Run) {
	set.onFlag("all", &o.all)
	set.onFlag("stay", &o.stay)
	set.textFlag("settings", &o.settings)
}

// chapters gives the chapters that are asked for.
func (o *demoOptions) chapters(c *call) ([]demo.Chapter, error) {
	name := strings.Join(c.names, " ")
	chapter, known := demo.Find(name)
	switch {
	case !known:
		hint := "the chapters are " + strings.Join(demo.Names(), ", ")
		if near := profile.Nearest(name, demo.Names()); near != "" {
			hint = "did you mean " + near + "?"
		}
		return nil, usage("the demo has no chapter %q; %s", clip(name), hint)
	case o.all && name != "":
		return nil, usage("demo --all shows every chapter; leave out %s: gharbor demo --all", name)
	case o.stay && (o.all || name != ""):
		return nil, usage("demo --stay shows no chapter; it takes neither a chapter nor --all: gharbor demo --stay")
	case o.settings != "" && !o.stay:
		return nil, usage("--settings needs --stay: gharbor demo --stay --settings ./file")
	case o.settings != "" && shell.Used() != shell.Posix &&
		!strings.HasSuffix(strings.ToLower(o.settings), shell.Used().Ending()):
		return nil, usage("the name of a file that your shell reads ends in %s: gharbor demo --stay --settings practice%[1]s",
			shell.Used().Ending())
	case o.all:
		return demo.Chapters, nil
	}
	return []demo.Chapter{chapter}, nil
}

func (o *demoOptions) run(ctx context.Context, c *call) error {
	chapters, err := o.chapters(c)
	if err != nil {
		return err
	}
	if o.stay {
		return inFolder(c, demo.Everyday, func(scene *demo.Scene, home string) error { return o.stayUp(ctx, c, scene, home) })
	}
	fmt.Fprintln(c.Stdout, "Fellside Huts, a made-up society, books bunks in mountain huts. Its databases are "+
		"practice servers inside this program.")
	for _, chapter := range chapters {
		if o.all {
			fmt.Fprintf(c.Stdout, "\n%s\n",
				paint(c.Stdout, strong, strings.TrimSpace("Chapter "+chapter.Name)+": "+chapter.About))
		}
		err := inFolder(c, chapter.Parts, func(scene *demo.Scene, home string) error {
			for _, step := range chapter.Steps(scene) {
				if err := c.stepOfDemo(ctx, o.main, step, home); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	fmt.Fprintln(c.Stdout, "\nThat was it; its servers and files are gone.")
	if !o.all {
		fmt.Fprintln(c.Stdout, "More of it:")
		for _, each := range demo.Chapters {
			if each.Name != "" && each.Name != chapters[0].Name {
				fmt.Fprintf(c.Stdout, "  %-24s  %s\n", "gharbor demo "+each.Name, each.About)
			}
		}
	}
	fmt.Fprintln(c.Stdout, "To try it by hand: gharbor demo --stay. All commands: gharbor help.")
	return nil
}

// demoFolder makes the demo's folder, with a short name where that is free.
func demoFolder() (string, error) {
	for _, name := range []string{"fellside", "fellside-2", "fellside-3", "fellside-4"} {
		home := filepath.Join(os.TempDir(), name)
		if err := os.Mkdir(home, 0o700); err == nil || !errors.Is(err, fs.ErrExist) {
			return home, err
		}
	}
	return os.MkdirTemp("", "fellside-")
}

// inFolder starts parts of the scene in a folder of their own, has work done, and leaves nothing.
func inFolder(c *call, parts demo.Part, work func(scene *demo.Scene, home string) error) error {
	var home string
	var mu sync.Mutex // over home, which is made once it is sure to be taken away
	gone := make(chan struct{})
	defer c.atOnce(func() { // a second Ctrl-C ends the program while this is being taken away
		select {
		case <-gone:
		case <-time.After(2 * time.Second):
			mu.Lock()
			defer mu.Unlock()
			_ = os.RemoveAll(home)
		}
	})()
	defer close(gone)
	mu.Lock()
	made, err := demoFolder()
	home = made
	mu.Unlock()
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	scene, err := demo.Start(home, parts)
	if err != nil {
		return fmt.Errorf("the practice servers did not start: %w", err)
	}
	defer scene.Close()
	return work(scene, home)
}

// stepOfDemo shows a sentence and a command, and runs it.
func (c *call) stepOfDemo(ctx context.Context, main func(*App, context.Context) int, step demo.Step,
	home string) error {
	if step.Needs != "" {
		if _, err := c.Account().Program(step.Needs); err != nil {
			return nil
		}
	}
	words := make([]string, len(step.Args))
	for i, arg := range step.Args {
		words[i] = shell.Word(arg)
	}
	fmt.Fprintln(c.Stdout)
	if step.Say != "" {
		report.Wrapped(c.Stdout, "", "", step.Say)
	}
	fmt.Fprintf(c.Stdout, "%s\n\n", paint(c.Stdout, strong, "  gharbor "+strings.Join(words, " ")))
	if step.Before != nil {
		step.Before()
	}
	code := main(c.inside(home, append(demo.Environ(), step.Environ...), step.Args), ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if code != step.Exit {
		return fmt.Errorf("the demo's command ended with the exit code %d, and %d was expected", code, step.Exit)
	}
	if code != 0 {
		fmt.Fprintf(c.Stdout, "  (exit code %d)\n", code)
	}
	return nil
}

// inside gives a run of the program in the demo's world: its folder, its variables, its name
// service, and nobody to ask.
func (c *call) inside(home string, environ, args []string) *App {
	// your own SSH configuration has no part in it
	kept := []string{"GHARBOR_HOME=" + home, "HOME=" + home, "DOCKER_HOST=unix://" + demo.EngineSocket(home)}
	for _, pair := range c.Environ {
		if strings.HasPrefix(pair, "GHARBOR_SHELL=") ||
			!strings.HasPrefix(pair, "GHARBOR_") && !strings.HasPrefix(pair, "HOME=") &&
				!strings.HasPrefix(pair, "SSH_") && !strings.HasPrefix(pair, "DOCKER_") &&
				!strings.HasPrefix(pair, "XDG_") {
			kept = append(kept, pair)
		}
	}
	return &App{
		Args: args, Environ: append(kept, environ...), Dir: home, Stdin: strings.NewReader(""),
		Stdout: c.Stdout, Stderr: c.Stdout, Resolver: demoNames{}, WalletWork: c.WalletWork,
	}
}

// demoNames is the name service of the demo's world: all of fellside.example is this machine.
type demoNames struct{}

func (demoNames) LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error) {
	if host == "fellside.example" || strings.HasSuffix(host, ".fellside.example") {
		return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}, nil
	}
	return net.DefaultResolver.LookupNetIP(ctx, network, host)
}

// stayUp writes the scenario's profiles and waits for Ctrl-C.
func (o *demoOptions) stayUp(ctx context.Context, c *call, scene *demo.Scene, home string) error {
	done := sync.OnceFunc(c.Busy("starting the practice servers"))
	defer done()
	for _, step := range slices.Concat(scene.Profiles(), scene.Account(), scene.Wallet()) {
		app := c.inside(home, demo.Environ(), step.Args)
		var said strings.Builder
		app.Stdout, app.Stderr = &said, &said
		if o.main(app, ctx) != 0 {
			fmt.Fprint(c.Stderr, said.String())
			return errors.New("the demo's profiles could not be written")
		}
	}
	// The variables go through a file that the shell reads, so that no practice password is on
	// the screen.
	var lines strings.Builder
	for _, pair := range slices.Concat(demo.Environ(), scene.Places(),
		[]string{"GHARBOR_HOME=" + home, "DOCKER_HOST=unix://" + demo.EngineSocket(home)}) {
		name, value, _ := strings.Cut(pair, "=")
		fmt.Fprintln(&lines, shell.Used().Assign(name, value))
	}
	if program, err := os.Executable(); err == nil && shell.Used() == shell.Posix { // it may be nowhere on PATH
		fmt.Fprintf(&lines, "command -v gharbor >/dev/null || export PATH=\"$PATH\":%s\n", shell.Word(filepath.Dir(program)))
	}
	file := filepath.Join(home, "settings"+shell.Used().Ending())
	if err := os.WriteFile(file, []byte(lines.String()), 0o600); err != nil {
		return err
	}
	if o.settings != "" {
		away, err := newSettings(c, o.settings, lines.String())
		if err != nil {
			return err
		}
		defer away()
		defer c.atOnce(away)()
		file = o.settings
		if !strings.ContainsRune(file, filepath.Separator) {
			file = "./" + file // a shell would look for it on PATH
		}
	}
	done()
	fmt.Fprintf(c.Stdout, `The practice servers are up. Ctrl-C here ends them and removes their files.
In another terminal, take over their settings:

  %s

Then try:

  gharbor list
  gharbor test huts/local
  gharbor test archive/ledger --port 1
  gharbor find
  gharbor test huts/staging --accept-host-key %s
  gharbor cloud sign-in fellside --passphrase-file %s
  gharbor test huts/live

The ports: huts/local %d, a replica of it %d, archive/ledger %d; a server of documents %d, a listener %d.
The practice cloud is at %s. Its service is off at first: the first answer says where to switch it on.
`, shell.Used().Source(file), shell.Used().Variable("GATE_KEY", ""), shell.Used().Variable("GHARBOR_HOME", "/phrase.txt"), scene.Bookings.Port(), scene.Spare.Port(), scene.Ledger.Port(), scene.Snow.Port(),
		scene.Census.Port(), scene.Cloud.URL())
	<-ctx.Done()
	return ctx.Err()
}

// newSettings writes the settings to the file that was asked for, which must be new. Away takes
// it away again.
func newSettings(c *call, named, text string) (away func(), err error) {
	path := named
	if !filepath.IsAbs(path) {
		path = filepath.Join(c.Folder(), path)
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil, world.Error{Code: finding.ExitSettings,
			Message: fmt.Sprintf("%s is there already, and demo --settings writes a new file only; name another one",
				clip(named))}
	}
	if err != nil {
		return nil, world.Error{Code: finding.ExitSettings,
			Message: fmt.Sprintf("%s could not be made: %s", clip(named), systemWord(err))}
	}
	made, err := file.Stat()
	_, err2 := file.WriteString(text)
	if err = errors.Join(err, err2, file.Close()); err != nil {
		_ = os.Remove(path)
		return nil, world.Error{Code: finding.ExitSettings,
			Message: fmt.Sprintf("%s could not be written: %s", clip(named), systemWord(err))}
	}
	return func() {
		if now, err := os.Lstat(path); err == nil && os.SameFile(made, now) {
			_ = os.Remove(path)
		}
	}, nil
}
