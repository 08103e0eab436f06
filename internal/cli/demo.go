package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/demo"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/shell"
)

// demoCommand makes the command demo, which runs other commands with main.
func demoCommand(main func(*App, context.Context) int) *command {
	return &command{
		name: "demo", about: "show the tool at work on practice servers",
		text: `Practice servers are started inside this program, on loopback addresses; the real commands run against them, with a
sentence on each. Everything is kept in a temporary folder, and nothing is left behind.

With --stay the servers stay up, and what is printed sets a shell up to try the commands by hand; Ctrl-C ends them.`,
		examples: []string{"gharbor demo", "gharbor demo --stay"},
		options:  func() options { return &demoOptions{main: main} },
	}
}

type demoOptions struct {
	main func(*App, context.Context) int
	stay bool
}

func (o *demoOptions) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.BoolVar(&o.stay, "stay", false, "keep the servers up to try for oneself")
}

func (o *demoOptions) run(ctx context.Context, c *call) error {
	if len(c.names) > 0 {
		return usage("demo takes no names")
	}
	scene, err := demo.Start()
	if err != nil {
		return fmt.Errorf("the practice servers did not start: %w", err)
	}
	defer scene.Close()
	home, err := os.MkdirTemp("", "gharbor-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	if err := os.WriteFile(filepath.Join(home, "phrase.txt"), []byte(demo.Phrase+"\n"), 0o600); err != nil {
		return err
	}
	for name, data := range map[string][]byte{"id_gate": scene.GateKey, "authority.pem": scene.Authority} {
		if err := os.WriteFile(filepath.Join(home, name), data, 0o600); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(home, "compose.yaml"), []byte(demo.Compose), 0o600); err != nil {
		return err
	}
	if err := scene.StartEngine(filepath.Join(home, "engine.sock"), home); err != nil {
		return fmt.Errorf("the practice container engine did not start: %w", err)
	}
	if o.stay {
		return o.stayUp(ctx, c, scene, home)
	}
	fmt.Fprintln(c.Stdout, "Fellside Huts, a made-up society, books bunks in mountain huts. Its databases are practice servers inside this program.")
	for _, step := range slices.Concat(scene.Profiles(), scene.Tour(), scene.Containers(home), scene.Clouds()) {
		if err := o.step(ctx, c, step, home); err != nil {
			return err
		}
	}
	fmt.Fprintln(c.Stdout, "\nThat was the tour; its servers and files are gone. gharbor help lists the commands, gharbor demo --stay keeps the servers up.")
	return nil
}

// step shows a sentence and a command, and runs it.
func (o *demoOptions) step(ctx context.Context, c *call, step demo.Step, home string) error {
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
	report.Wrapped(c.Stdout, "", "", step.Say)
	fmt.Fprintf(c.Stdout, "%s\n\n", paint(c.Stdout, strong, "  gharbor "+strings.Join(words, " ")))
	if step.Before != nil {
		step.Before()
	}
	code := o.main(c.inside(home, append(demo.Environ(), step.Environ...), step.Args), ctx)
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

// inside gives a run of the program in the demo's world: its folder, its variables, its name service, and
// nobody to ask.
func (c *call) inside(home string, environ, args []string) *App {
	kept := []string{"GHARBOR_HOME=" + home, "HOME=" + home, "DOCKER_HOST=unix://" + filepath.Join(home, "engine.sock")} // your own SSH configuration has no part in it
	for _, pair := range c.Environ {
		if !strings.HasPrefix(pair, "GHARBOR_") && !strings.HasPrefix(pair, "HOME=") && !strings.HasPrefix(pair, "SSH_") && !strings.HasPrefix(pair, "DOCKER_") && !strings.HasPrefix(pair, "XDG_") {
			kept = append(kept, pair)
		}
	}
	return &App{
		Args: args, Environ: append(kept, environ...), Dir: home, Stdin: strings.NewReader(""),
		Stdout: c.Stdout, Stderr: c.Stdout, Resolver: demoNames{},
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
	for _, step := range slices.Concat(scene.Profiles(), []demo.Step{scene.Staging("127.0.0.1")}, scene.Account()) {
		app := c.inside(home, demo.Environ(), step.Args)
		app.Stdout, app.Stderr = c.Stderr, c.Stderr
		if o.main(app, ctx) != 0 {
			return errors.New("the demo's profiles could not be written")
		}
	}
	// The variables go through a file that the shell reads, so that no practice password is on the screen.
	var lines strings.Builder
	for _, pair := range append(demo.Environ(), "GHARBOR_HOME="+home, "DOCKER_HOST=unix://"+filepath.Join(home, "engine.sock")) {
		fmt.Fprintf(&lines, "export %s\n", shell.Word(pair))
	}
	file := filepath.Join(home, "settings.sh")
	if err := os.WriteFile(file, []byte(lines.String()), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, `The practice servers are up. In another terminal:

  . %s
  gharbor list
  gharbor test huts/local
  gharbor test huts/staging --accept-host-key %s
  cd "$GHARBOR_HOME" && gharbor find --only containers,compose
  gharbor cloud sign-in fellside
  gharbor test huts/live

Ports: huts/local %d, a replica of it %d, archive/ledger %d; an encrypted one %d; one that asks to be shown the password %d.
The practice cloud is at %s. Its service is off at first: the first answer says where to switch it on.
Ctrl-C here ends them and removes the files.
`, shell.Word(file), scene.GateFingerprint(), scene.Bookings.Port(), scene.Spare.Port(), scene.Ledger.Port(), scene.Secure.Port(), scene.Fake.Port(), scene.Cloud.URL())
	<-ctx.Done()
	return ctx.Err()
}
