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
	text: "Put into the shell's start file: eval \"$(gharbor completion bash)\", the same for zsh, and for " +
		"fish: gharbor completion fish | source",
	examples: []string{`eval "$(gharbor completion bash)"`, "gharbor completion fish | source"},
	options:  without(runCompletion),
}

// Each script asks the program itself for the words that may follow: gharbor completion words --
// WORD… A line that begins with a tab says what else may stand there: files, folders or programs,
// which the shell completes by itself. A word that ends in / : = or , goes on: no space comes
// behind it.
var completionScripts = map[string]string{
	// bash breaks words at : and = too, so that the line is split here, and what stands before
	// those is not given back; in a word with an opened quote it breaks at nothing.
	"bash": `_gharbor_words() {
  local IFS=' ' line=${COMP_LINE:0:COMP_POINT} cur before= word
  local -a given found
  read -ra given <<<"$line"
  case $line in *' ') given+=("") ;; esac
  cur=${given[${#given[@]}-1]}
  case $cur in
    [\"\']*) cur=${cur:1}; given[${#given[@]}-1]=$cur ;;
    *) before=${cur%"${cur##*[:=]}"} ;;
  esac
  mapfile -t found < <(command gharbor completion words -- "${given[@]:1}" 2>/dev/null)
  COMPREPLY=()
  for word in "${found[@]}"; do
    case $word in
      $'\tfiles') compopt -o default 2>/dev/null; return ;;
      $'\tfolders') compopt -o dirnames 2>/dev/null; return ;;
      $'\tprograms') mapfile -t COMPREPLY < <(compgen -c -- "$cur" | grep -x '[A-Za-z0-9_.+-]*' | sort -u); return ;;
    esac
    word=${word#"$before"}
    [ -z "$word" ] && continue
    COMPREPLY+=("$word")
  done
  case ${COMPREPLY[0]-} in */ | *: | *= | *,) compopt -o nospace 2>/dev/null ;; esac
}
complete -F _gharbor_words gharbor
`,
	"zsh": `_gharbor_words() {
  local -a found whole open
  local word also=
  found=("${(@f)$(command gharbor completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
  for word in "${(@)found}"; do
    case $word in
      $'\t'*) also=${word#$'\t'} ;;
      *[/:=,]) open+=("$word") ;;
      ?*) whole+=("$word") ;;
    esac
  done
  (( $#open )) && compadd -S '' -a -- open
  (( $#whole )) && compadd -a -- whole
  case $also in
    files) compset -P '--*='; _files ;;
    folders) compset -P '--*='; _files -/ ;;
    programs) compadd -- ${(k)commands} ;;
  esac
}
compdef _gharbor_words gharbor
`,
	"fish": `function __gharbor_words
  set -l given (commandline -opc) (commandline -ct)
  set -l cur (commandline -ct)
  for word in (command gharbor completion words -- $given[2..-1] 2>/dev/null)
    switch $word
      case \tfiles \tfolders
        set -l before (string match -r -- '^--[^=]*=' $cur; or echo)
        for path in (__fish_complete_path (string replace -r -- '^--[^=]*=' '' $cur))
          echo $before$path
        end
      case \tprograms
        __fish_complete_command
      case '*'
        echo $word
    end
  end
end
complete -c gharbor -f -a '(__gharbor_words)'
`,
}

func runCompletion(ctx context.Context, c *call) error {
	if len(c.names) > 0 && c.names[0] == "words" {
		ctx, cancel := context.WithTimeout(ctx, offerTime)
		defer cancel()
		o := c.following(ctx, c.names[1:])
		for _, word := range o.words {
			fmt.Fprintln(c.Stdout, word)
		}
		if o.also != "" {
			fmt.Fprintln(c.Stdout, "\t"+o.also)
		}
		return nil
	}
	if len(c.names) != 1 || completionScripts[c.names[0]] == "" {
		return usage("completion is for bash, zsh or fish")
	}
	_, err := io.WriteString(c.Stdout, completionScripts[c.names[0]])
	return err
}

// offer is what may stand at a place of a command line: words, and beside them files, folders or
// programs, which the shell looks for.
type offer struct {
	words []string
	also  string // "files", "folders" or "programs"; "" for none
}

func offering(list ...string) offer { return offer{words: list} }

// offerTime is how long a person who presses the tab key waits: what is not found until then is
// left out. Names that a server has take peekTime.
const offerTime = peekTime

// following gives what may stand instead of the last of the given words. That one may have a
// quote before it that is not closed yet.
func (c *call) following(ctx context.Context, given []string) offer {
	last := ""
	if len(given) > 0 {
		last = given[len(given)-1]
		given = given[:len(given)-1]
	}
	if strings.HasPrefix(last, "'") || strings.HasPrefix(last, "\"") {
		last = last[1:]
	}
	var o offer
	if len(given) == 0 {
		o = offering(c.commandNames()...)
	} else if cmd := c.find(given[0]); cmd != nil && len(cmd.subs) > 0 && len(given) == 1 {
		o = offering(cmd.actions()...)
	} else if cmd != nil {
		if sub := (*command)(nil); len(cmd.subs) > 0 {
			if sub = cmd.sub(given[1]); sub == nil {
				return offer{}
			}
			cmd = sub
		}
		o = c.wordsOf(ctx, cmd, given[1:], last)
	}
	o.words = slices.DeleteFunc(o.words, func(word string) bool {
		return !strings.HasPrefix(word, last) || !offered(word)
	})
	return o
}

// offered reports whether a word may be offered: only one that every shell takes as it is. What
// profiles, labels, aliases and clouds hold may be a stranger's words, and a shell runs what it
// is given.
func offered(word string) bool {
	return word == shell.Posix.Word(word)
}

func (c *call) wordsOf(ctx context.Context, cmd *command, given []string, last string) offer {
	if len(cmd.name) > 0 && strings.Contains(cmd.name, " ") {
		given = given[1:] // the action
	}
	if i := slices.Index(given, "--"); i >= 0 {
		switch {
		case cmd.name != "with":
			return offer{}
		case i == len(given)-1:
			return offer{also: "programs"}
		}
		return offer{also: "files"} // the program's own arguments
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
			return c.valuesOf(ctx, cmd, f, given[:i-1], last)
		}
	}
	if name, value, joined := strings.Cut(strings.TrimPrefix(last, "--"), "="); joined && strings.HasPrefix(last, "--") {
		f := flags.Lookup(name)
		if f == nil || boolean(f) {
			return offer{}
		}
		o := c.valuesOf(ctx, cmd, f, given, value)
		for i := range o.words {
			o.words[i] = "--" + name + "=" + o.words[i]
		}
		return o
	}
	if strings.HasPrefix(last, "-") {
		var names []string
		flags.VisitAll(func(f *flag.Flag) { names = append(names, "--"+f.Name) })
		return offering(names...)
	}
	if tableWanted(cmd, given, place) {
		return offering(c.namesThere(ctx, cmd, engine.ListTables, given, last)...)
	}
	return c.argument(ctx, cmd, given, place, last)
}

// argument gives what may stand at a place among the words that are no flags.
func (c *call) argument(ctx context.Context, cmd *command, given []string, place int, last string) offer {
	switch cmd.name {
	case "help":
		if place == 0 {
			return offering(append(c.commandNames(), topicNames...)...)
		}
		if of := c.find(given[0]); of != nil && place == 1 {
			return offering(of.actions()...)
		}
		return offer{}
	case "completion":
		return offering("bash", "zsh", "fish")
	case "version", "audit", "find":
		return offer{}
	case "list":
		return offering(profile.Groups(c.profileNames())...)
	case "demo":
		if place > 0 {
			return offer{}
		}
		return offering(demo.Names()...)
	case "release", "doors":
		if place > 0 {
			return offer{}
		}
		return offering(c.heldNames(ctx)...)
	case "with":
		if place > 0 {
			return offer{}
		}
		// Several names are one word, with commas between them; none stands there twice.
		before := last[:strings.LastIndexByte(last, ',')+1]
		var names []string
		for _, name := range c.profileNames() {
			if !slices.Contains(strings.Split(before, ","), name) {
				names = append(names, before+name)
			}
		}
		return offering(names...)
	case "cloud show":
		if place > 0 {
			return offer{}
		}
		return offering(c.serversNamed(ctx)...)
	case "meaning":
		var codes []string
		for _, e := range finding.All() {
			codes = append(codes, string(e.Code))
		}
		return offering(codes...)
	case "survey":
		if place == 1 {
			return offering(surveys()...)
		}
	case "test", "await", "remove":
		return offering(append(profile.Groups(c.profileNames()), c.namesFor(last)...)...)
	case "run":
		if place == 0 {
			return offering(append(profile.Groups(c.profileNames()), c.namesFor(last)...)...)
		}
		return offer{}
	case "wallet unattended":
		return offering("on", "off")
	case "hops forget", "hops list":
		if place > 0 {
			return offer{}
		}
		return offering(c.hopsKnown()...)
	case "copy", "rename":
		if place == 1 {
			return offering(profile.Groups(c.profileNames())...)
		}
	}
	// What else stands there is said by the command's own line in help.
	parts := strings.Fields(cmd.synopsis)
	switch word := ""; {
	case place < len(parts):
		word = parts[place]
		fallthrough
	default:
		if strings.Contains(word, "FILE") || word == "SOURCE" {
			return offer{also: "files"}
		}
	}
	switch first, _, _ := strings.Cut(cmd.name, " "); {
	case first == "wallet":
		return offer{}
	case first == "alias":
		return offering(c.aliasNames()...)
	case cmd.name == "cloud admit":
		return offering(c.namesFor(last)...)
	case first == "cloud":
		if place == 0 && slices.Contains([]string{"[NAME]", "NAME"}, cmd.synopsis) {
			return offering(c.CloudNames()...)
		}
		return offer{}
	}
	if place > 0 && !strings.HasSuffix(cmd.synopsis, "…") {
		return offer{}
	}
	return offering(c.namesFor(last)...)
}

// namesFor gives the names of profiles, with "mine:" before those of your own where the word
// begins so.
func (c *call) namesFor(last string) []string {
	names := c.profileNames()
	if !strings.HasPrefix(last, "mine:") {
		return names
	}
	var own []string
	for _, name := range names {
		if layer, bare := profile.SplitLayer(name); layer != "project" {
			own = append(own, "mine:"+bare)
		}
	}
	return own
}

// valuesOf gives the values that a flag may have, as far as they are known. Given are the words
// before the flag.
func (c *call) valuesOf(ctx context.Context, cmd *command, f *flag.Flag, given []string, last string) offer {
	if list := asksFor(f.Name); list != "" {
		return offering(c.namesThere(ctx, cmd, list, given, last)...)
	}
	if closed, is := f.Value.(*closedFlag); is {
		return offering(closed.words...)
	}
	switch f.Name {
	case "engine":
		return offering(known.Names()...)
	case "tls":
		return offering("off", "encrypt", "verify")
	case "secret":
		return offering("none", "empty", "ask", "wallet", "credentials", "keyring", "container", "cloud", "env:", "file:")
	case "base", "at":
		return offering(c.namesFor(last)...)
	case "alias":
		return offering(c.aliasNames()...)
	case "cloud":
		return offering(c.serversNamed(ctx)...)
	case "labelled":
		return offering(c.labels(ctx)...)
	case "via":
		return offering(c.SSHConfig().Hosts()...)
	case "expect":
		return offering(expectable()...)
	case "option":
		return offering(optionNames()...)
	}
	switch kind, _ := flag.UnquoteUsage(f); {
	case strings.Contains(kind, "FILE"), kind == "PATH":
		return offer{also: "files"}
	case kind == "FOLDER":
		return offer{also: "folders"}
	}
	return offer{}
}

// expectable gives what can be expected of a server, with those values that are known.
func expectable() []string {
	var list []string
	for _, s := range profile.Settings {
		if s.Flag != "expect" {
			continue
		}
		name, value, _ := strings.Cut(s.Value, "=")
		if value == "true|false" {
			list = append(list, name+"=true", name+"=false")
		} else {
			list = append(list, name+"=")
		}
	}
	return list
}

// optionNames gives the session settings that profiles may set, of all engines.
func optionNames() []string {
	var list []string
	for _, info := range known.Infos() {
		for _, name := range info.Options {
			list = append(list, name+"=")
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// hopsKnown gives the hops of which a host key was accepted here.
func (c *call) hopsKnown() []string {
	list, err := c.KnownHops("")
	if err != nil {
		return nil
	}
	var names []string
	for _, each := range list {
		names = append(names, each.Hop)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// labels lists the labels that profiles have.
func (c *call) labels(ctx context.Context) []string {
	all, err := c.ListWithin(ctx)
	if err != nil {
		return nil
	}
	var labels []string
	met := map[string]bool{}
	agreed := c.AgreedProfiles()
	for _, row := range all.Rows {
		if row.Owner == "project" && !slices.Contains(agreed, row.Profile) {
			continue
		}
		for name, value := range row.Labels {
			if text := name + "=" + value; !met[text] {
				met[text] = true
				labels = append(labels, text)
			}
		}
	}
	slices.Sort(labels)
	return labels
}

// heldNames lists the profiles with a door that is open, as far as the processes that hold them
// answer immediately.
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

// serversNamed lists the servers of clouds that profiles name, and each account as the beginning
// of one. No cloud is asked.
func (c *call) serversNamed(ctx context.Context) []string {
	var words []string
	for _, account := range c.CloudNames() {
		words = append(words, account+"/")
	}
	all, err := c.ListWithin(ctx)
	if err != nil {
		return words
	}
	agreed := c.AgreedProfiles()
	for _, row := range all.Rows {
		if server, is := strings.CutPrefix(row.Where, "cloud:"); is &&
			(row.Owner != "project" || slices.Contains(agreed, row.Profile)) {
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
