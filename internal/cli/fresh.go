package cli

import (
	"context"
	"errors"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/target"
)

// fresh is the flags of a new entry of a store.
type fresh struct {
	binding
	from    string
	replace bool
}

// stored has an entry put into a store. Where one is there, a person is asked; without a terminal
// --replace answers.
func (o *fresh) stored(ctx context.Context, c *call, to target.Target,
	put func(replace bool) (was bool, err error)) (was bool, err error) {
	if was, err = put(o.replace); !errors.Is(err, stores.ErrStored) {
		return was, err
	}
	of := "a password of " + outside.Cell(to.User) + " for " + outside.Cell(to.Endpoint.String())
	if !c.Who.Here() {
		return false, usage("%s is stored already. To replace it, add the flag: --replace", of)
	}
	yes, err := world.Yes(ctx, c.Who, world.UpperFirst(of)+" is stored already. Replace it?", false)
	if err != nil {
		return false, err
	}
	if !yes {
		return false, world.Error{Code: exitSettings, Message: "nothing was changed"}
	}
	return put(true)
}

func (o *fresh) flags(fs flagSet, run *harbor.Run) {
	o.binding.flags(fs, run)
	fs.wordFlag("at-least", []string{"off", "encrypt", "verify"}, "", &o.TLS)
	fs.textFlag("secret", &o.from)
	fs.onFlag("replace", &o.replace)
	fs.textFlag("secret-file", &run.SecretFile)
}
