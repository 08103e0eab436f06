package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/harbor"
)

var completionCommand = command{
	name: "completion", synopsis: "bash | zsh | fish", about: "print what lets a shell complete commands, flags and names",
	text:     "Put into the shell's start file: eval \"$(gharbor completion bash)\", the same for zsh, and for fish: gharbor completion fish | source",
	examples: []string{`eval "$(gharbor completion bash)"`, "gharbor completion fish | source"},
	options:  without(runCompletion),
}

// Each script asks the program itself for the words that may follow: gharbor completion words -- WORD…
var completionScripts = map[string]string{
	"bash": `_gharbor_words() {
  local IFS=$'\n' cur=${COMP_WORDS[COMP_CWORD]}
  COMPREPLY=($(compgen -W "$(gharbor completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)" -- "$cur"))
}
complete -o default -F _gharbor_words gharbor
`,
	"zsh": `_gharbor_words() {
  local -a found
  found=("${(@f)$(gharbor completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
  compadd -a found
}
compdef _gharbor_words gharbor
`,
	"fish": `complete -c gharbor -f -a '(set -l given (commandline -opc) (commandline -ct); gharbor completion words -- $given[2..-1] 2>/dev/null)'
`,
}

func runCompletion(_ context.Context, c *call) error {
	if len(c.names) > 0 && c.names[0] == "words" {
		for _, word := range c.following(c.names[1:]) {
			fmt.Fprintln(c.Stdout, word)
		}
		return nil
	}
	if len(c.names) != 1 || completionScripts[c.names[0]] == "" {
		return usage("completion is there for bash, zsh and fish")
	}
	_, err := io.WriteString(c.Stdout, completionScripts[c.names[0]])
	return err
}

// following lists the words that may stand in the place of the last of the given ones.
func (c *call) following(given []string) []string {
	last := ""
	if len(given) > 0 {
		last = given[len(given)-1]
		given = given[:len(given)-1]
	}
	var words []string
	if len(given) == 0 {
		words = c.commandNames()
	} else if cmd := c.find(given[0]); cmd != nil && len(cmd.subs) > 0 && len(given) == 1 {
		words = cmd.actions()
	} else if cmd != nil {
		if sub := (*command)(nil); len(cmd.subs) > 0 {
			if sub = cmd.sub(given[1]); sub == nil {
				return nil
			}
			cmd = sub
		}
		words = c.wordsOf(cmd, given[len(given)-1], last)
	}
	return slices.DeleteFunc(words, func(word string) bool { return !strings.HasPrefix(word, last) })
}

func (c *call) wordsOf(cmd *command, before, last string) []string {
	if name, ok := strings.CutPrefix(before, "--"); ok && before != "--" {
		switch name {
		case "engine":
			return known.Names()
		case "tls":
			return []string{"off", "encrypt", "verify"}
		case "secret":
			return []string{"none", "empty", "ask", "wallet", "credentials", "keyring", "env:", "file:"}
		case "base", "profile", "for":
			return c.profileNames()
		case "keep":
			return harbor.Stores
		}
		if s := flagsOf(cmd).Lookup(name); s != nil && !boolean(s) {
			return nil
		}
	}
	if strings.HasPrefix(last, "-") {
		var flags []string
		flagsOf(cmd).VisitAll(func(f *flag.Flag) { flags = append(flags, "--"+f.Name) })
		return flags
	}
	switch cmd.name {
	case "help":
		return c.commandNames()
	case "completion":
		return []string{"bash", "zsh", "fish"}
	case "list", "demo", "version", "audit":
		return nil
	case "wallet unattended":
		return []string{"on", "off"}
	}
	if strings.HasPrefix(cmd.name, "wallet ") {
		return nil
	}
	return c.profileNames()
}

func (c *call) profileNames() []string {
	library, err := c.Library()
	if err != nil {
		return nil
	}
	entries, _ := library.List()
	names := make([]string, len(entries))
	for i, entry := range entries {
		names[i] = entry.Name
	}
	return names
}

// flagsOf gives a command's flags.
func flagsOf(cmd *command) *flag.FlagSet {
	fs := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	sample(cmd).declare(fs)
	return fs
}

func boolean(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}
