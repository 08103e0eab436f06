package checkup

import (
	"context"
	"slices"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/profile"
)

// LegNames are the legs that a route can have, in the order in which they are walked: the one
// list of that order. The flag --until, what comes after it, and the help are made of it.
var LegNames = []string{"settings", "cloud", "secret", "tunnel", "alias", "container", "name", "port",
	"greeting", "tls", "login", "database", "query", "expect"}

// legsOf gives the legs in the order in which they are walked to a server of an engine.
func legsOf(info engine.Info) []string {
	if !info.EncryptsFirst {
		return LegNames
	}
	names := slices.Clone(LegNames)
	i, j := slices.Index(names, "greeting"), slices.Index(names, "tls")
	names[i], names[j] = names[j], names[i]
	return names
}

// LogsIn reports whether a test up to a leg logs in, so that it needs a user and a secret; "" is
// the whole route.
func LogsIn(until string) bool {
	return until == "" || slices.Index(LegNames, until) >= slices.Index(LegNames, "login")
}

// past reports whether a leg comes after the one up to which the route is walked.
func (w *walk) past(leg string) bool {
	until, names := w.checker.Until, legsOf(w.info)
	return until != "" && slices.Index(names, leg) > slices.Index(names, until)
}

// got ends a walk that went as far as it should. Legs after that are no part of the report.
func (w *walk) got() {
	w.finish()
	r := w.report
	r.OK, r.Exit, r.Until, r.Finding = true, 0, w.checker.Until, nil
	beyond := func(l Leg) bool { return l.OK == nil || w.past(l.Name) }
	r.Legs = slices.DeleteFunc(r.Legs, beyond)
	r.MS = 0
	for _, leg := range r.Legs {
		r.MS += leg.MS
	}
	if n := len(r.Attempts); n > 0 {
		r.Attempts[n-1].Legs = slices.DeleteFunc(slices.Clone(r.Attempts[n-1].Legs), beyond)
	}
}

// short walks a route up to a leg before the login. No secret is looked for, except for the leg
// of that name, and no user is needed.
func (c Checker) short(ctx context.Context, a agree.Admitted) (*Report, error) {
	w := c.walk(ctx, a)
	defer w.stop()
	w.profile.Problems = slices.DeleteFunc(slices.Clone(w.profile.Problems), func(p profile.Problem) bool {
		return p.Missing && p.Setting == "user"
	})
	encryption, err := w.settings()
	if err != nil {
		return w.report, w.failed(err)
	}
	if c.Until == "settings" {
		w.got()
		return w.report, nil
	}
	if err := w.inCloud(encryption); err != nil {
		return w.report, w.failed(err)
	}
	switch c.Until {
	case "cloud":
		w.got()
		return w.report, nil
	case "secret":
		found, err := w.find()
		if err != nil {
			return w.report, w.failed(err)
		}
		w.legs.pass("secret", found.Source.String())
		w.got()
		return w.report, nil
	}
	w.legs.pass("secret", "not looked for, since nobody logs in")
	w.clock()
	if err := w.enter(); err != nil {
		return w.report, w.failed(err)
	}
	if c.Until != "tunnel" {
		session, err := Open(present{w}, w.path,
			halting{known.Engine(w.profile.Engine), c.Until, encryption != nil}, w.asking(),
			w.line(encryption), AnyRole, w)
		if err != nil {
			w.unanswered(err)
			return w.report, w.failed(err)
		}
		session.Close()
	}
	w.got()
	return w.report, nil
}

// halting is an engine that goes no further than a leg before the login.
type halting struct {
	engine.Engine
	until     string
	encrypted bool // there is a leg "tls"
}

// Open connects, and goes on with a login of nobody and no password until the leg has passed:
// some servers count handshakes that are aborted.
func (h halting) Open(ctx context.Context, end engine.Endpoint, login engine.Login,
	watch engine.Watch) (engine.Session, error) {
	first := h.Info().EncryptsFirst
	switch {
	case h.until == "alias", h.until == "container", h.until == "name":
		return nobody{}, nil
	case h.until == "port", h.until == "tls" && first && !h.encrypted:
		line, err := end.Connect(ctx, end.At)
		if err != nil {
			return nil, err
		}
		return nobody{}, line.Close()
	}
	passed := false
	session, err := h.Engine.Open(ctx, end, login, func(leg, saw string) {
		watch(leg, saw)
		passed = passed || leg == h.until || leg == "greeting" && !h.encrypted
	})
	if err == nil {
		return session, nil
	}
	if passed {
		return nobody{}, nil
	}
	return nil, err
}

// asking is the login of nobody: what a listener must be asked for is in it.
func (w *walk) asking() engine.Login {
	login := engine.Login{Leg: w.leg()}
	if w.info.Serves {
		login.Database, login.Instance = w.profile.Database, w.profile.Instance
	}
	return login
}

// nobody is the session of no login.
type nobody struct{}

func (nobody) Ask(context.Context) error                   { return nil }
func (nobody) Facts(context.Context) (engine.Facts, error) { return engine.Facts{}, nil }
func (nobody) Close()                                      {}
