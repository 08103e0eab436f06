package checkup

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

// failed notes what a leg's error means. It gives an error only when the route was interrupted.
func (w *walk) failed(err error) error {
	if w.parent.Err() != nil {
		return w.parent.Err()
	}
	failure := w.failure(err)
	if failure == nil {
		return err
	}
	leg := finding.Leg(failure.Code)
	about := w.about(failure)
	seen := w.seen(failure, about)
	headline := w.headline(failure, about)
	if i := slices.IndexFunc(w.before, func(l Leg) bool { return l.Name == leg }); i >= 0 {
		no := false
		w.before[i].OK, w.before[i].Saw = &no, headline
	} else {
		w.legs.fail(leg, headline)
	}
	w.finish()
	if !w.checker.NoEvidence {
		seen = append(seen, w.evidence(failure, about)...)
	}
	made := finding.Make(failure.Code, about, seen...)
	w.report.Finding, w.report.Exit, w.report.OK = &made, Exit(made.Leg), false
	return nil
}

// failure gives any error of a leg as a problem; nil for one that is not about the route.
func (w *walk) failure(err error) *finding.Problem {
	var problem *finding.Problem
	if errors.As(err, &problem) {
		return w.classified(problem)
	}
	return nil
}

// classified names the service whose first bytes were not the engine's, where they are another's that is known.
func (w *walk) classified(p *finding.Problem) *finding.Problem {
	first, met := p.Facts[engine.FirstBytes]
	if !met || p.Code != "greeting.malformed" {
		return p
	}
	a := known.Identify([]byte(first))
	named := &finding.Problem{Code: p.Code, Err: p.Err, Facts: map[string]string{"wanted": w.info.Title, "found": a.Title, "version": a.Version}}
	switch {
	case known.Database(a):
		named.Code = "greeting.other-engine"
	case a.Kind != "":
		named.Code = "greeting.not-a-database"
	default:
		named.Facts["first"] = fmt.Sprintf("%q", first[:min(len(first), 24)])
	}
	return named
}

// headline is what the failed leg's own line says.
func (w *walk) headline(f *finding.Problem, about map[string]string) string {
	switch {
	case f.Words != "":
		return w.clean(string(f.Words))
	case strings.HasSuffix(f.Code, ".silent"):
		return "no answer within " + about["timeout"]
	case strings.HasSuffix(f.Code, ".closed"):
		return "the connection ended"
	case about["found"] != "":
		return "found " + about["found"]
	case brief[f.Code] != "":
		return brief[f.Code]
	}
	cause := finding.Make(f.Code, about).Cause
	return strings.TrimSuffix(cause, ".")
}

// brief words the failed leg's line where the finding's cause would say too much for it.
var brief = map[string]string{
	"name.not-found":             "no such name",
	"tls.not-offered":            "the server offers no encryption",
	"login.password-wanted":      "the server wants a password",
	"login.would-show-password":  "the server asked to be shown the password",
	"port.socket-owner":          "another user's process is behind the socket",
	"login.method-not-supported": "the server asked for a login method that is not accepted",
	"login.server-unproven":      "the server did not prove that it is the one that knows the password",
	"greeting.malformed":         "not the protocol of this engine",
	"settings.incomplete":        "incomplete",
	"settings.invalid":           "inconsistent",
	"settings.not-agreed":        "not agreed to",
	"expect.not-met":             "not all expectations hold",
	"expect.cannot-see":          "not all expectations can be seen",
	"secret.none":                "none found",
	"secret.bound-elsewhere":     "what is kept is bound to another way",
	"secret.not-kept":            "nothing is kept for this way",
}

// about collects what a finding's text may name.
func (w *walk) about(f *finding.Problem) map[string]string {
	p := w.profile
	about := map[string]string{
		"subject": p.Name, "profile": p.Name, "place": p.Place(), "host": p.Host, "port": portText(p.Port), "user": p.User,
		"database": p.Database, "role": p.Role, "title": w.info.Title, "usual-port": portText(w.info.Port),
		"timeout":         w.waited(),
		finding.Overrides: w.checker.Overrides,
	}
	if w.checker.Admin != nil {
		about["admin"] = w.checker.Admin(p.Place(), p.Name)
	}
	if p.Name == "" {
		about["subject"] = "-"
	}
	w.keep(about)
	if w.address != "" {
		about["place"] = w.address
	}
	if e := known.Engine(p.Engine); e != nil {
		advice := e.Advice(engine.Subject{User: p.User, Database: p.Database, Host: p.Host})
		for name, text := range map[string]string{
			"quote": advice.Quote, "first-database": advice.FirstDatabase, "other-host": advice.OtherHost, "hidden": advice.Hidden,
			"account-statement": advice.Account, "connections-statement": advice.Connections, "holders-statement": advice.Holders,
			"create-statement": advice.Create, "grant-statement": advice.Grant,
		} {
			about[name] = text
		}
	}
	if p.Socket == "" && !profile.Loopback(p.Host) {
		about["remote"] = p.Host
	} else {
		about["local-title"] = w.info.Title
	}
	if p.Database != "" && p.Database == p.User {
		about["same-as-user"] = p.User
	}
	if p.Secret.Kind == secret.Variable {
		about["variable"] = p.Secret.Of
	}
	for name, value := range f.Facts {
		about[name] = w.clean(value)
	}
	if f.Words != "" {
		about["words"] = w.clean(string(f.Words))
	}
	return about
}

// waited says how long the leg was waited for: as long as one may take, or what was left of the whole.
func (w *walk) waited() string {
	if w.limit <= 0 || w.limit >= w.leg() {
		return w.leg().String()
	}
	unit := time.Millisecond
	if w.limit >= 100*time.Millisecond {
		unit *= 10 // what was left is seldom a round number
	}
	return max(w.limit.Round(unit), time.Millisecond).String()
}

// keep names the command with which a password is kept for just this way, in the place that the profile names.
func (w *walk) keep(about map[string]string) {
	p := w.profile
	flags := " --profile " + shell.Word(p.Name)
	if p.Name == "" || w.checker.Overrides != "" {
		way := p.Target()
		flags = " --for " + shell.Word(way.Place()) + " --user " + shell.Word(way.User)
		if way.TLS != way.WeakestTLS() {
			flags += " --tls " + way.TLS
		}
	}
	switch p.Secret.Kind {
	case secret.Keyring:
		about["the-keyring"] = "the keyring"
	case secret.Credentials:
		if p.Secret.Of != "" {
			flags = " --file " + shell.Word(p.Secret.Of) + flags
		}
		about["keep"] = "gharbor credentials add" + flags
	case secret.Wallet:
		if p.Secret.Of != "" {
			flags = " --called " + p.Secret.Of + flags
		}
		fallthrough
	default:
		about["keep"] = "gharbor wallet put" + flags
	}
	if p.Secret.Kind == secret.Search && strings.HasPrefix(w.secretSaw, "from the credential file") {
		about["keep"] = "gharbor credentials add" + flags
	}
	if strings.HasPrefix(w.secretSaw, "from the wallet") || strings.HasPrefix(w.secretSaw, "from the credential file") {
		about["keep-again"] = about["keep"]
	}
}

func portText(port int) string {
	if port == 0 {
		return ""
	}
	return strconv.Itoa(port)
}

// seen lists what the connection itself showed.
func (w *walk) seen(f *finding.Problem, about map[string]string) []string {
	var seen []string
	say := func(format string, args ...any) { seen = append(seen, fmt.Sprintf(format, args...)) }
	switch {
	case f.Words != "" && f.Number != "":
		say("the server said: %s (code %s)", about["words"], w.clean(string(f.Number)))
	case f.Words != "" && finding.Leg(f.Code) == "port":
		say("the system said: %s", about["words"])
	case f.Words != "":
		say("what came: %s", about["words"])
	}
	switch finding.Leg(f.Code) {
	case "query":
		if w.opening != "" {
			say("the statement was one that the profile runs when it opens a session (on-open): %s", w.clean(w.opening))
		}
	case "secret":
		for _, line := range f.Tried {
			seen = append(seen, w.clean(line))
		}
	case "login":
		switch {
		case !w.secret.Given():
			say("no password was sent")
		case w.secret.Reveal() == "":
			say("an empty password was sent")
		case w.sent == "":
			say("the password was not sent")
		default:
			say("the password that was used: %s", w.secretSaw)
		}
		if about["method"] != "" {
			say("login method: %s", about["method"])
		}
		if about["accepted"] != "" {
			say("the profile accepts only: %s", about["accepted"])
		}
	case "port", "name":
		if about["shared"] != "" {
			say("%s", about["shared"])
		}
		if f.Code == "port.refused" {
			say("%s refused the connection at once, so the machine itself is in reach", w.address)
		}
	case "greeting":
		if about["found"] != "" {
			version := ""
			if about["version"] != "" {
				version = " (" + about["version"] + ")"
			}
			say("its first words are those of %s%s", about["found"], version)
		}
		if f.Code == "greeting.malformed" && about["first"] != "" {
			say("its first bytes: %s", about["first"])
		}
	case "tls":
		for _, line := range [][2]string{
			{"certificate", "the certificate is for %s"}, {"names", "names that it holds for: %s"}, {"issuer", "issued by %s"},
			{"from", "holds from %s"}, {"until", "holds until %s"},
		} {
			dated := line[0] == "from" || line[0] == "until"
			if about[line[0]] != "" && (!dated || f.Code == "tls.expired" || f.Code == "tls.not-yet-valid") {
				say(line[1], about[line[0]])
			}
		}
	}
	for _, attempt := range w.report.Attempts[:max(0, len(w.report.Attempts)-1)] {
		for _, leg := range attempt.Legs {
			if leg.OK != nil && !*leg.OK {
				say("before that, %s failed at the leg %s: %s", attempt.Address, leg.Name, leg.Saw)
			}
		}
	}
	if last := w.checker.Last; last != nil && w.secretSaw != "" {
		now := Remember(w.profile, w.report, time.Now())
		for _, line := range last.Differs(now) {
			say("since the last good test (%s): %s", last.When.Local().Format("2006-01-02 15:04"), line)
		}
	}
	return seen
}
