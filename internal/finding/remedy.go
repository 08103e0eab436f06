package finding

import (
	"slices"
	"strings"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/shell"
)

// Remedy is one thing to try.
type Remedy struct {
	// Say is a sentence. It has no full stop where a command follows.
	Say string
	// Run are the arguments of gharbor that do it, nil where no command of ours does. They are
	// quoted only when printed.
	Run []string
	// instead says that it is for want of the one before it.
	instead bool
}

// String gives the sentence and the command, as a shell takes it.
func (r Remedy) String() string {
	if len(r.Run) == 0 {
		return r.Say
	}
	words := make([]string, len(r.Run))
	for i, word := range r.Run {
		words[i] = shell.Word(word)
	}
	command := "gharbor " + strings.Join(words, " ")
	if r.Say == "" {
		return command
	}
	return r.Say + ": " + command
}

// Parts gives the sentence and the command apart, as a page shows them; a remedy that was read
// from a file is one text, whose command is what follows its first ": gharbor ".
func (r Remedy) Parts() (say, command string) {
	text := r.String()
	if strings.HasPrefix(text, "gharbor ") {
		return "", text
	}
	if before, after, is := strings.Cut(text, ": gharbor "); is {
		return before + ":", "gharbor " + after
	}
	return text, ""
}

// MarshalText gives what String does: JSON has a remedy as one text.
func (r Remedy) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText puts the whole text into Say.
func (r *Remedy) UnmarshalText(text []byte) error {
	*r = Remedy{Say: string(text)}
	return nil
}

// say is a remedy without a command.
func say(text string) Remedy { return Remedy{Say: text} }

// orSay is a remedy without a command, for where the one before it has no place.
func orSay(text string) Remedy { return Remedy{Say: text, instead: true} }

// orTry is a remedy with a command, for where the one before it has no place.
func orTry(text, command string) Remedy {
	return Remedy{Say: text, Run: strings.Fields(command), instead: true}
}

// try is a remedy with a command, whose words have spaces between them.
func try(text, command string) Remedy { return Remedy{Say: text, Run: strings.Fields(command)} }

// About is what a finding is about: what was met, and the run that a command repeats.
type About struct {
	Facts
	Again Again
	// Keep is the command that keeps a password for just this connection, KeepAgain the one that
	// puts another in the place of the kept one; nil where there is none.
	Keep, KeepAgain []string
}

// Again is how a command of a remedy is about the same connection as the run that failed.
type Again struct {
	Name string // the profile, a connection string without a password, or "-" for one on standard input
	// Flags are those of the run that a command repeats, each with its value. A command leaves
	// out those that it sets anew.
	Flags [][]string
	// Unsaved says that the profile is being added: a test of it is an add, and no other command
	// can name it.
	Unsaved bool
	// Socket says that the connection goes to a socket, which is not encrypted.
	Socket bool
	// Alias says that an alias says the addresses and the encryption, Container that a container does.
	Alias, Container bool
	// Cloud says that a cloud says the address and how it is verified.
	Cloud bool
	// Hops says that the profile has hops, beside which there can be no container.
	Hops bool
	// Lacks are commands that are of no use with the engine: none of them is proposed.
	Lacks []string
}

// Flags that say where the server is: one that is set anew replaces them all.
var addressFlags = []string{"--host", "--port", "--socket", "--alias", "--container", "--cloud"}

// carried gives the flags that a command repeats behind the name.
func (a Again) carried(command []string) []string {
	sets := func(flags ...string) bool {
		return slices.ContainsFunc(flags, func(flag string) bool { return slices.Contains(command, flag) })
	}
	var kept []string
	for _, flag := range a.Flags {
		switch name := flag[0]; {
		case sets(name):
		case name == "--port" && sets("--host") && !slices.ContainsFunc(a.Flags, func(f []string) bool {
			return f[0] != "--port" && f[0] != "--host" && slices.Contains(addressFlags, f[0])
		}):
			kept = append(kept, flag...) // the host of a run keeps the port, a flag's too
		case sets("--host", "--socket", "--container", "--cloud") && slices.Contains(addressFlags, name):
		case sets("--port") && name == "--socket":
		case sets("--socket") && strings.HasPrefix(name, "--tls"): // a socket is not encrypted
		case sets("--tls") && slices.Contains(command, "off") && strings.HasPrefix(name, "--tls-"):
		default:
			kept = append(kept, flag...)
		}
	}
	return kept
}

// repeats reports whether flags are those of the run that failed: such a command has just been run.
func (a Again) repeats(words []string) bool {
	var now, then []string
	for _, word := range words {
		if strings.HasPrefix(word, "--") || len(now) == 0 {
			now = append(now, word)
			continue
		}
		now[len(now)-1] += " " + word
	}
	for _, flag := range a.Flags {
		then = append(then, strings.Join(flag, " "))
	}
	slices.Sort(now)
	slices.Sort(then)
	return len(then) > 0 && slices.Equal(now, then)
}

// filled gives a remedy with values in its places; false when one of them has none, or has none
// that can be typed, or when the command would be about a profile that is not saved yet.
func (r Remedy) filled(about About) (Remedy, bool) {
	text, whole := fill(r.Say, about.Facts)
	if !whole {
		return Remedy{}, false
	}
	made := Remedy{Say: text}
	names := false // the saved profile
	for _, word := range r.Run {
		switch word {
		case "{subject}":
			if about.Again.Name == "" || !outside.Clean(about.Again.Name) {
				return Remedy{}, false
			}
			names = true
			made.Run = append(append(made.Run, about.Again.Name), about.Again.carried(r.Run)...)
			continue
		case "{nothing}":
			made.Run = append(made.Run, "")
		case "{keep}":
			made.Run = append(made.Run, about.Keep...)
			whole = about.Keep != nil
		case "{keep-again}":
			made.Run = append(made.Run, about.KeepAgain...)
			whole = about.KeepAgain != nil
		default:
			names = names || word == "{profile}"
			var value string
			value, whole = fill(word, about.Facts)
			made.Run = append(made.Run, value)
		}
		if !whole {
			return Remedy{}, false
		}
	}
	if about.Again.Socket && names && !slices.Contains(r.Run, "--host") {
		if i := slices.Index(r.Run, "--tls"); i >= 0 && r.Run[i+1] != "off" {
			return Remedy{}, false
		}
	}
	if (about.Again.Alias || about.Again.Cloud) && names && !slices.Contains(r.Run, "--container") &&
		!slices.Contains(r.Run, "--host") && !slices.Contains(r.Run, "--socket") &&
		slices.ContainsFunc(r.Run, func(word string) bool {
			return word == "--port" || word == "off" || word == "encrypt" || strings.HasPrefix(word, "--tls-")
		}) {
		return Remedy{}, false // what an alias or a cloud says is not for a run to change
	}
	if about.Again.Hops && names && slices.Contains(r.Run, "--container") {
		return Remedy{}, false
	}
	if about.Again.Container && names && !slices.Contains(r.Run, "--host") &&
		!slices.Contains(r.Run, "--socket") && slices.Contains(r.Run, "--port") {
		return Remedy{}, false // a container's port is said with it
	}
	if made.Run != nil && made.Run[0] == "alias" {
		for _, flag := range about.Again.Flags {
			if flag[0] == "--aliases" {
				made.Run = append(made.Run, flag...)
			}
		}
	}
	for _, word := range made.Run {
		if !outside.Clean(word) {
			return Remedy{}, false
		}
	}
	if about.Again.Unsaved && names {
		if made.Run[0] != "test" || slices.Contains(made.Run, "--until") { // an add saves what works as a whole
			return Remedy{}, false
		}
		made.Run[0] = "add"
	}
	return made, true
}
