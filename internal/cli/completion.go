package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/demo"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/doors"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/shell"
)

var completionCommand = command{
	name: "completion", synopsis: "bash | zsh | fish", about: "print what lets a shell complete commands, flags and names",
	text:     "Put into the shell's start file: eval \"$(gharbor completion bash)\", the same for zsh, and for fish: gharbor completion fish | source",
	examples: []string{`eval "$(gharbor completion bash)"`, "gharbor completion fish | source"},
	options:  without(runCompletion),
}

// Each script asks the program itself for the words that may follow: gharbor completion words -- WORD…
var completionScripts = map[string]string{
	// bash breaks words at : and = too, so that the line is split here, and what stands before those is not given back.
	"bash": `_gharbor_words() {
  local IFS=' ' line=${COMP_LINE:0:COMP_POINT} cur before
  local -a given
  read -ra given <<<"$line"
  case $line in *' ') given+=("") ;; esac
  cur=${given[${#given[@]}-1]}
  before=${cur%"${cur##*[:=]}"}
  local word
  local -a found
  mapfile -t found < <(gharbor completion words -- "${given[@]:1}" 2>/dev/null)
  COMPREPLY=()
  for word in "${found[@]}"; do
    word=${word#"$before"}
    [ -z "$word" ] && continue
    word=$(printf %q "$word")
    COMPREPLY+=("${word//\\,/,}") # a comma means nothing to a shell
  done
  case ${COMPREPLY[0]-} in */ | *: | *=) compopt -o nospace 2>/dev/null ;; esac
}
complete -o default -F _gharbor_words gharbor
`,
	"zsh": `_gharbor_words() {
  local -a found
  found=("${(@f)$(gharbor completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
  [[ -n ${found[1]} ]] && compadd -a -- found
}
compdef _gharbor_words gharbor
`,
	"fish": `complete -c gharbor -f -a '(set -l given (commandline -opc) (commandline -ct); gharbor completion words -- $given[2..-1] 2>/dev/null)'
`,
}

func runCompletion(ctx context.Context, c *call) error {
	if len(c.names) > 0 && c.names[0] == "words" {
		for _, word := range c.following(ctx, c.names[1:]) {
			fmt.Fprintln(c.Stdout, word)
		}
		return nil
	}
	if len(c.names) != 1 || completionScripts[c.names[0]] == "" {
		return usage("completion is for bash, zsh or fish")
	}
	_, err := io.WriteString(c.Stdout, completionScripts[c.names[0]])
	return err
}

// following lists the words that may stand instead of the last of the given ones.
func (c *call) following(ctx context.Context, given []string) []string {
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
		words = c.wordsOf(ctx, cmd, given[1:], last)
	}
	return slices.DeleteFunc(words, func(word string) bool { return !strings.HasPrefix(word, last) || !offered(word) })
}

// offered reports whether a word may be offered: only one that every shell takes as it is. What profiles, labels, aliases and clouds hold
// may be a stranger's words, and a shell runs what it is given.
func offered(word string) bool {
	return word == shell.Word(word) && !strings.HasPrefix(word, "=") // which zsh replaces by the path of a program
}

func (c *call) wordsOf(ctx context.Context, cmd *command, given []string, last string) []string {
	if len(cmd.name) > 0 && strings.Contains(cmd.name, " ") {
		given = given[1:] // the action
	}
	flags := flagsOf(cmd)
	place := 0 // how many words that are no flags come before
	for i := 0; i < len(given); i++ {
		name, isFlag := strings.CutPrefix(given[i], "--")
		if !isFlag {
			place++
			continue
		}
		f := flags.Lookup(name)
		if f == nil || boolean(f) {
			continue
		}
		if i++; i == len(given) { // its value is the word that is asked for
			if list := asksFor(name); list != "" {
				return c.namesThere(ctx, cmd, list, given[:i-1], last)
			}
			return c.valuesOf(f)
		}
	}
	if strings.HasPrefix(last, "-") {
		var names []string
		flags.VisitAll(func(f *flag.Flag) { names = append(names, "--"+f.Name) })
		return names
	}
	if tableWanted(cmd, given, place) {
		return c.namesThere(ctx, cmd, engine.ListTables, given, last)
	}
	switch cmd.name {
	case "help":
		if place == 0 {
			return append(c.commandNames(), topicNames...)
		}
		if of := c.find(given[0]); of != nil {
			return of.actions()
		}
		return nil
	case "completion":
		return []string{"bash", "zsh", "fish"}
	case "list", "version", "audit", "find":
		return nil
	case "demo":
		if place > 0 {
			return nil
		}
		return demo.Names()
	case "release", "doors":
		if place > 0 {
			return nil
		}
		return c.heldNames(ctx)
	case "with":
		if place > 0 {
			return nil
		}
		// Several names are one word, with commas between them.
		before := last[:strings.LastIndexByte(last, ',')+1]
		names := c.profileNames()
		for i := range names {
			names[i] = before + names[i]
		}
		return names
	case "cloud show":
		if place > 0 {
			return nil
		}
		return c.serversNamed()
	case "meaning":
		var codes []string
		for _, e := range finding.All() {
			codes = append(codes, string(e.Code))
		}
		return codes
	case "survey":
		if place == 1 {
			return surveys()
		}
	case "test", "await", "remove":
		names := c.profileNames()
		return append(profile.Groups(names), names...)
	case "wallet unattended":
		return []string{"on", "off"}
	case "copy", "rename":
		if place == 1 {
			return profile.Groups(c.profileNames())
		}
	}
	switch first, _, _ := strings.Cut(cmd.name, " "); {
	case first == "wallet":
		return nil
	case first == "alias":
		return c.aliasNames()
	case cmd.name == "cloud admit":
		return c.profileNames()
	case first == "cloud":
		if place == 0 && slices.Contains([]string{"[NAME]", "NAME"}, cmd.synopsis) {
			return c.CloudNames()
		}
		return nil
	}
	if place > 0 && !strings.HasSuffix(cmd.synopsis, "…") {
		return nil
	}
	return c.profileNames()
}

// valuesOf lists the values that a flag may have, as far as they are known.
func (c *call) valuesOf(f *flag.Flag) []string {
	if closed, is := f.Value.(*closedFlag); is {
		return closed.words
	}
	switch f.Name {
	case "engine":
		return known.Names()
	case "tls":
		return []string{"off", "encrypt", "verify"}
	case "secret":
		return []string{"none", "empty", "ask", "wallet", "credentials", "keyring", "container", "cloud", "env:", "file:"}
	case "base":
		return c.profileNames()
	case "alias":
		return c.aliasNames()
	case "cloud":
		return c.serversNamed()
	case "labelled":
		return c.labels()
	}
	return nil
}

// labels lists the labels that profiles have.
func (c *call) labels() []string {
	all, err := c.List()
	if err != nil {
		return nil
	}
	var labels []string
	agreed := c.AgreedProfiles()
	for _, row := range all.Rows {
		if row.Owner == "project" && !slices.Contains(agreed, row.Profile) {
			continue
		}
		for name, value := range row.Labels {
			if text := name + "=" + value; !slices.Contains(labels, text) {
				labels = append(labels, text)
			}
		}
	}
	slices.Sort(labels)
	return labels
}

// heldNames lists the profiles with a door that is open, as far as the processes that hold them answer immediately.
func (c *call) heldNames(ctx context.Context) []string {
	ctx, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	list, err := doors.Opened(ctx, c.World)
	if err != nil {
		return nil
	}
	var names []string
	for _, each := range list {
		names = append(names, each.Profile)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// serversNamed lists the servers of clouds that profiles name, and each account as the beginning of one. No cloud is asked.
func (c *call) serversNamed() []string {
	var words []string
	for _, account := range c.CloudNames() {
		words = append(words, account+"/")
	}
	all, err := c.List()
	if err != nil {
		return words
	}
	agreed := c.AgreedProfiles()
	for _, row := range all.Rows {
		if server, is := strings.CutPrefix(row.Where, "cloud:"); is && (row.Owner != "project" || slices.Contains(agreed, row.Profile)) {
			words = append(words, server)
		}
	}
	slices.Sort(words)
	return slices.Compact(words)
}

func (c *call) aliasNames() []string {
	return c.edits().OwnAliases()
}

// flagsOf gives a command's flags.
func flagsOf(cmd *command) *flag.FlagSet {
	fs := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	sample(cmd).declare(flagSet{fs})
	return fs
}

func boolean(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}
