package harbor

import (
	"context"
	"net/netip"
	"slices"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/route"
)

// Refused is a saved profile whose last test failed, and who may look why.
type Refused struct {
	Profile string
	// Past is the test, nil where no failed one is remembered; Tested says that one is remembered
	// at all.
	Past   *checkup.Past
	Tested bool
	// Admin is a profile of the user's own that administers the server, "" for none.
	Admin string
	// Attempt is the login as its server saw it.
	Attempt engine.Attempt
	Aim     Aim
}

// LastRefused gives what is remembered of a saved profile's last test. Nothing is connected to.
func (r Run) LastRefused(ctx context.Context, name string) (of Refused, err error) {
	r.Connects = false
	to, err := r.Load(ctx, name, false)
	if err != nil {
		return of, err
	}
	of = Refused{Profile: to.Name, Aim: to}
	history, file, kept := r.historyOf(to)
	if !kept {
		return of, world.Wrong("there is no folder in which tests are remembered")
	}
	list, err := history.Read(file)
	if err != nil {
		return of, err
	}
	if of.Tested = len(list) > 0; !of.Tested || list[len(list)-1].OK {
		return of, nil
	}
	past := list[len(list)-1]
	of.Past, of.Admin = &past, r.adminOf(to.Place(), to.Name)
	of.Attempt = r.attempt(ctx, to, past, of.Admin)
	return of, nil
}

// attempt gives a login as the server saw it. From an address of this machine one comes from that
// very address.
func (r Run) attempt(ctx context.Context, to Aim, past checkup.Past, admin string) engine.Attempt {
	said := func(name, otherwise string) string {
		if text, is := past.Settings[name]; is {
			return text
		}
		return otherwise
	}
	a := engine.Attempt{User: said("user", to.User), Database: said("database", to.Database),
		Socket: said("socket", to.Socket) != "", Encrypted: said("tls.mode", to.TLS.Mode) != "off",
		Card: said("tls.cert", to.TLS.Cert) != ""}
	if at, err := netip.ParseAddrPort(past.Address); err == nil && len(to.Via) == 0 && !to.InContainer() &&
		route.Own(at.Addr()) {
		a.From = at.Addr().Unmap().String()
	}
	if admin != "" {
		if looks, err := r.Load(ctx, admin, false); err == nil {
			a.SameWay = !a.Socket && looks.Socket == "" && slices.Equal(looks.Via, to.Via) && looks.Host == to.Host
		}
	}
	return a
}

// Showing gives the statement by which an administrator of the server sees which rule or account
// applies, "" for none that is known.
func (r Run) Showing(of Refused) string {
	e := known.Engine(of.Aim.Engine)
	if e == nil {
		return ""
	}
	return e.Advice(engine.Subject{User: of.Attempt.User, Database: of.Attempt.Database}).Rules
}
