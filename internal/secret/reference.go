package secret

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"
)

// Kind is a way of keeping a secret.
type Kind string

// The kinds of reference that a profile may hold.
const (
	Search   Kind = ""        // no reference was written: look where it makes sense, in order
	None     Kind = "none"    // there is no password, and none is sent
	Empty    Kind = "empty"   // the password is the empty text
	Ask      Kind = "ask"     // a person types it
	Variable Kind = "env"     // an environment variable holds it
	File     Kind = "file"    // the whole of a file is it, one trailing newline cut
	Command  Kind = "command" // a program prints it
	// Wallet is an encrypted file of the user's own; Of names it, "" for the usual one.
	Wallet Kind = "wallet"
	// Credentials is a plain text file that its owner alone can read; Of is its path, "" for the
	// usual one.
	Credentials Kind = "credentials"
	// Keyring is the desktop's secret service.
	Keyring Kind = "keyring"
	// Container is the environment of the container that says where the server is, read at each
	// connection.
	Container Kind = "container"
	// Cloud is a temporary login that the cloud of the server gives, with a user of its own.
	Cloud Kind = "cloud"
)

// Forms lists how references are written, for messages and help.
const Forms = "none, empty, ask, wallet, wallet:NAME, credentials, credentials:FILE, keyring, container, cloud, " +
	"env:VARIABLE, file:PATH or command: [PROGRAM, ARGUMENT]"

// Reference says where a secret comes from. The zero value is [Search].
type Reference struct {
	Kind Kind
	// Of is the variable's name or the file's path, for the kinds that have one.
	Of string
	// Args is a command's program and its arguments.
	Args []string
}

var variableName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`) })

// plainWord is a word that YAML takes for text without quotes.
var plainWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z/._][A-Za-z0-9/._-]*$`) })

// ParseReference reads a reference as a profile writes it. Its errors never repeat the text
// whole, since a password that was written instead of a reference ends up here.
func ParseReference(text string) (Reference, error) {
	word, of, hasOf := strings.Cut(text, ":")
	if Kind(word) == Command {
		return parseCommand(of)
	}
	switch kind := Kind(word); kind {
	case None, Empty, Ask, Keyring, Container, Cloud:
		if hasOf {
			return Reference{}, fmt.Errorf("%q takes nothing after it", word)
		}
		return Reference{Kind: kind}, nil
	case Variable:
		if !variableName().MatchString(of) {
			return Reference{}, fmt.Errorf("env: needs the name of an environment variable after it, such as env:HUT_PASSWORD")
		}
		return Reference{Kind: kind, Of: of}, nil
	case File:
		if of == "" || strings.ContainsRune(of, 0) {
			return Reference{}, fmt.Errorf("file: needs a path after it, such as file:~/keys/hut-password")
		}
		return Reference{Kind: kind, Of: of}, nil
	case Wallet:
		if hasOf && !CheckWalletName(of) {
			return Reference{}, fmt.Errorf("wallet: takes the name of a wallet after it, of letters, digits, - " +
				"and _, as in wallet:team")
		}
		return Reference{Kind: kind, Of: of}, nil
	case Credentials:
		if hasOf && (of == "" || strings.ContainsRune(of, 0)) {
			return Reference{}, fmt.Errorf("credentials: takes a path after it, as in credentials:~/keys/hut-credentials")
		}
		return Reference{Kind: kind, Of: of}, nil
	}
	return Reference{}, fmt.Errorf("not a reference to a secret; write one of %s (a profile never has the "+
		"password itself)",
		Forms)
}

// CheckWalletName reports whether a text can be a wallet's name: at most 64 letters, digits, -
// and _.
func CheckWalletName(name string) bool {
	return name != "" && len(name) <= 64 &&
		strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

// parseCommand reads a list of words in YAML's flow form.
func parseCommand(text string) (Reference, error) {
	var words []string
	if err := yaml.Unmarshal([]byte(text), &words); err != nil || len(words) == 0 || slices.Contains(words, "") {
		return Reference{}, fmt.Errorf("command: needs a list of a program and its arguments after it, such as " +
			"command: [keeper, hut]")
	}
	return Reference{Kind: Command, Args: words}, nil
}

// String writes the reference as a profile does, "" for [Search].
func (r Reference) String() string {
	if r.Kind == Command {
		quoted := make([]string, len(r.Args))
		for i, word := range r.Args {
			quoted[i] = word
			if !plainWord().MatchString(word) {
				quoted[i] = strconv.Quote(word)
			}
		}
		return "command: [" + strings.Join(quoted, ", ") + "]"
	}
	if r.Of != "" {
		return string(r.Kind) + ":" + r.Of
	}
	return string(r.Kind)
}
