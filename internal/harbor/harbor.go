// Package harbor is what the program can do, without asking for it: it finds profiles, the state and the
// stores of secrets from the environment that it is handed, decides what a word means, and tests and opens connections.
// It prints nothing: what a person should know goes to [Run.Note], questions go to [Run.Who].
package harbor

import (
	"context"
	"fmt"
	"io"
	"sync"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

// Run is one run of the program: what it is handed, what its flags say, and what it has found so far. It is made for one
// command and not used again.
type Run struct {
	Environ []string // NAME=VALUE pairs
	Stdin   io.Reader
	// Dir is the folder that the program works in; "" for the process's own.
	Dir string
	// Resolver looks host names up; nil for the system's.
	Resolver route.Resolver
	Who      person.Person
	// Say is told what a person should know; nil for nobody.
	Say func(text string)
	// Working shows what takes its time, and gives what takes that away; nil for nothing.
	Working func(what string) (done func())
	// AskAgreement shows terms to a person and asks whether they agree.
	AskAgreement func(ctx context.Context, s profile.Stack, t agree.Terms, standing agree.Standing) (bool, error)

	// Set has the settings that were given as flags. Connects says that they hold for this run only.
	Set      profile.Layer
	Connects bool
	// Waited gives how long people have been waited for so far; it may be nil.
	Waited func() time.Duration
	// Until is the leg up to which tests go, "" for the whole route.
	Until string
	// Harmless says that nothing is connected to and no secret is read, so that no agreement is needed.
	Harmless bool
	// Files that stand in for a person who would be asked; "-" is standard input.
	SecretFile, PassphraseFile, NewPassphraseFile string
	// WalletPath is the folder of a wallet that is elsewhere, and Keep where a typed password is to be kept; "" for the usual.
	WalletPath, Keep string

	// AliasFiles are files of aliases that count before the usual ones.
	AliasFiles []string
	// AcceptedKeys are the fingerprints of host keys that a person has compared beforehand.
	AcceptedKeys []string

	// Typed is what was typed in this run.
	Typed person.Typed

	typedForHops sync.Map  // what was typed for hops and their keys
	news         jump.News // host keys that were accepted in this run

	bookOnce sync.Mutex
	book     *alias.Book

	enginesOnce sync.Once
	engines     []container.Engine
	enginesErr  error
	clouds      clouds
	containers  sync.Map // which container a place was when it was tested, as a target.Definition

	told bool // that a project's folder was passed over
	// PassphraseRead is the passphrase that was read or made in this run.
	PassphraseRead secret.Secret
	keepersMu      sync.Mutex
	keepers        map[string]*wallet.Keeper
	kinOnce        sync.Once
	kinFound       map[string][]kin
	adminsOnce     sync.Once
	adminsFound    map[string][]string
}

// kin is a profile of the user's own that leads to some server, its user, and its reference for the secret.
type kin struct{ name, user, secret string }

// Note says something to a person.
func (r *Run) Note(format string, more ...any) {
	if r.Say != nil {
		r.Say(fmt.Sprintf(format, more...))
	}
}

// tell prints a line for a person, such as the result of an answer.
func (r *Run) tell(format string, more ...any) { r.Who.Say(fmt.Sprintf(format, more...)) }
