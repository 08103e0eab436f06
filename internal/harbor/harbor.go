// Package harbor is what the program can do, without asking for it: it decides what a word means,
// opens sessions, tests, finds, and makes profiles. A [Run] is one use case over a [world.World];
// a World serves many of them, at the same time too. It prints nothing: what a person should know
// goes to the World's Note, questions go to its Who. Below it are what a use case reads and
// writes (stores, clouds, edits); doors, above it, stay open.
package harbor

import (
	"sync"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Run is what a use case was told of connections, over a World. It is a value: no use case
// changes it, and one that needs it otherwise takes a copy. [New] makes it.
type Run struct {
	stores.Stores
	// Set has the settings that were given as flags. Connects says that they hold for this use
	// case only.
	Set      profile.Layer
	Connects bool
	// Until is the leg up to which tests go, "" for the whole route.
	Until string
	// Harmless says that nothing is connected to and no secret is read, so that no agreement is
	// needed.
	Harmless bool
	// AcceptedKeys are the fingerprints of host keys that a person has compared beforehand.
	AcceptedKeys []string

	near *near
}

// New gives a use case of a World, which is still to be told what it is about.
func New(w *world.World) Run {
	return Run{Stores: stores.Of(w), Set: profile.Layer{}, near: &near{}}
}

// near is what a use case has read of the user's own profiles to say which of them helps. It is
// read once, after a failure.
type near struct {
	kin, admins sync.Once
	kinFound    map[string][]kin
	adminsFound map[string][]string
	around      checkup.Around
}

// kin is a profile of the user's own that leads to some server, its user, and its reference for
// the secret.
type kin struct{ name, user, secret string }

func (r Run) clouds() clouds.Clouds { return clouds.Clouds{Stores: r.Stores} }

func (r Run) edits() edits.Edits { return edits.Edits{Stores: r.Stores} }
