package cli

import (
	"flag"
	"strings"
	"testing"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// TestUsageErrorsEndWithWhatWorks makes every command's errors of usage in a home of its own:
// flags that are unknown, without a value or with a wrong one, too many words, none, and an
// unknown action. Each message names what is wrong, and ends with a command or a flag that can be
// parsed.
func TestUsageErrorsEndWithWhatWorks(t *testing.T) {
	app := &App{commands: everyCommand()}
	said := map[string]bool{}
	for _, top := range app.commands {
		if len(top.subs) > 0 {
			for _, word := range []string{"nonsense", "lits", "put", "ls"} {
				if top.sub(word) == nil {
					usageError(t, said, word, top.name, word)
				}
			}
		}
		for _, cmd := range append([]*command{top}, top.subs...) {
			if len(cmd.subs) > 0 {
				continue
			}
			words := strings.Fields(cmd.name)
			usageError(t, said, "--nonsense", append(words, "--nonsense", "x")...)
			usageError(t, said, "--prot", append(words, "--prot", "x")...)
			usageError(t, said, "--password", append(words, "--password", canaryWord)...)
			flagsOf(cmd).VisitAll(func(f *flag.Flag) {
				if boolean(f) {
					usageError(t, said, "--"+f.Name, append(words, "--"+f.Name+"="+canaryWord)...)
					return
				}
				if _, chooses := sample(cmd).options.(choosing); !chooses || f.Name != "cloud" {
					usageError(t, said, "--"+f.Name, append(words, "--"+f.Name)...)
				}
				if kind, _ := described(f); kind == "TIME" || kind == "NUMBER" || kind == "SIZE" || kind == "WORD" {
					usageError(t, said, "--"+f.Name, append(words, "--"+f.Name, canaryWord)...)
				}
			})
			if cmd.synopsis != "" && !strings.HasPrefix(cmd.synopsis, "[") && cmd.name != "demo" && cmd.name != "completion" {
				usageError(t, said, cmd.name, words...)
			}
			if !strings.Contains(cmd.synopsis, "…") && !cmd.program && cmd.name != "version" &&
				cmd.name != "completion" && top.name != "help" {
				usageError(t, said, "", append(words, "one", "two", "three", "four")...)
			}
		}
	}
	for _, word := range []string{"nonsense", "tset", "ls", "shell"} {
		usageError(t, said, word, word)
	}
	if len(said) < 400 {
		t.Errorf("only %d messages were read", len(said))
	}
}

// canaryWord is a value that no message may show: it may be a password in a wrong place.
const canaryWord = "canary-5b2f"

// usageError has a command line refused, and reads the message.
func usageError(t *testing.T, said map[string]bool, wrong string, args ...string) {
	t.Helper()
	app, out, errs := newApp(t, args...)
	code := app.Main(t.Context())
	message, _ := strings.CutPrefix(strings.TrimSpace(errs.String()), "gharbor: ")
	if code != exitUsage {
		t.Errorf("gharbor %s: exit %d\n%s%s", strings.Join(args, " "), code, out, errs)
		return
	}
	if said[message] = true; strings.Contains(message, canaryWord) {
		t.Errorf("gharbor %s shows the value: %s", strings.Join(args, " "), message)
	}
	named := strings.Contains(message, strings.TrimPrefix(wrong, "-"))
	if !named || !endsWell(message) || !works(app, args, message) {
		t.Errorf("gharbor %s: %s", strings.Join(args, " "), message)
	}
}

// works reports whether what a message ends with can be parsed.
func works(app *App, args []string, message string) bool {
	_, line, isLine := cutLast(message, ": gharbor ")
	if isLine {
		line, _, _ = strings.Cut(line, " | ")
		words := quoted.FindAllString(line, -1)
		cmd := app.find(words[0])
		if cmd == nil {
			return false
		}
		rest := words[1:]
		if len(cmd.subs) > 0 {
			cmd, rest = cmd.sub(words[1]), words[2:]
		}
		return cmd != nil && parses(app, cmd, rest)
	}
	cmd := app.find(args[0])
	if cmd == nil || strings.HasSuffix(message, "?") {
		return strings.HasSuffix(message, "?")
	}
	if len(cmd.subs) > 0 {
		cmd = cmd.sub(args[1])
	}
	if _, flag, is := cutLast(message, ": --"); is {
		return parses(app, cmd, strings.Fields("--"+flag))
	}
	if _, value, is := cutLast(message, "such as "); is {
		if !strings.HasPrefix(value, "--") {
			value = strings.TrimSuffix(strings.Fields(message)[0], ":") + " " + value
		}
		return parses(app, cmd, quoted.FindAllString(value, -1))
	}
	return false
}

func parses(app *App, cmd *command, words []string) bool {
	for i := range words {
		words[i] = strings.Trim(words[i], `"'`)
	}
	c := app.newCall(cmd)
	c.Set = profile.Layer{}
	err := c.parse(words)
	_, usage := err.(world.Error)
	return err == nil || !usage
}
