package cli

import (
	"flag"
	"regexp"
	"strings"
	"testing"
)

// TestInsteadIsThere holds that what is named instead of a word of the trade is there, and that
// no word is one of ours.
func TestInsteadIsThere(t *testing.T) {
	a := &App{}
	a.commands = everyCommand()
	flags, names := map[string]bool{}, map[string]bool{}
	var look func(cmd *command)
	look = func(cmd *command) {
		names[cmd.name] = true
		flagsOf(cmd).VisitAll(func(f *flag.Flag) { flags[f.Name] = true })
		for _, sub := range cmd.subs {
			look(sub)
		}
	}
	for _, cmd := range a.commands {
		look(cmd)
	}
	mentioned := func(text string) {
		for _, match := range regexp.MustCompile(`--([a-z][a-z-]+)`).FindAllStringSubmatch(text, -1) {
			if !flags[match[1]] {
				t.Errorf("there is no flag --%s", match[1])
			}
		}
		for _, match := range regexp.MustCompile(`gharbor ([a-z]+)`).FindAllStringSubmatch(text, -1) {
			if !names[match[1]] {
				t.Errorf("there is no command %s", match[1])
			}
		}
	}
	for flag, means := range flagMeanings {
		if !flags[flag] {
			t.Errorf("no command has the flag --%s", flag)
		}
		mentioned(means.about + means.hint)
	}
	// An earlier name, and a word of the trade, are answered in each command with the flag that
	// it has.
	for line, want := range map[string]string{
		"wallet add --for x": "--server", "wallet add --profile x": "written alone",
		"wallet add --tls x": "--at-least", "test --keep x": "--store", "test --label x": "--labelled", "list --label x": "--labelled",
		"alias rename --with-references": "--everywhere", "rename --with-references": "--everywhere", "alias probe --count 3": "--repeat", "show --all": "--hidden", "expect --from-test": "tests by itself",
		"run --format x": "--as", "list --format x": "--json", "await --wait x": "--for", "cloud admit --wait x": "--for", "add --force": "--replace", "hold --sslmode x": "--tls",
	} {
		app, _, errs := newApp(t, strings.Fields(line)...)
		if code := app.Main(t.Context()); code != exitUsage || !strings.Contains(errs.String(), want) {
			t.Errorf("%s: %s", line, errs)
		}
	}
	for word, why := range noFlagFor {
		if flags[word] {
			t.Errorf("--%s is a flag", word)
		}
		mentioned(why)
	}
	for word, instead := range insteadOfCommand {
		if names[word] {
			t.Errorf("%s is a command", word)
		}
		mentioned(instead)
	}
}
