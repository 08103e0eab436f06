package harbor

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// asked lists what is asked for, in this order, where neither flags nor a connection string said
// it.
var asked = []string{"engine", "host", "port", "database", "user", "secret"}

// converse asks for what is missing, tests, and saves. Where it is left before that, it says how
// to go on later.
func (d *draft) converse(ctx context.Context) (err error) {
	d.Began(d.at.Name)
	defer func() {
		if err != nil && !d.saved && len(d.layer) > 0 {
			d.Who.Say("To go on from here:\n  " + d.again())
		}
	}()
	if d.FromClouds {
		if err := d.chooseCloud(ctx); err != nil {
			return err
		}
	}
	if err := d.offerServers(ctx); err != nil {
		return err
	}
	first := true
	for _, name := range asked {
		if _, said := d.layer[name]; said || d.needless(name) {
			continue
		}
		if first {
			d.Who.Say("Enter alone takes the value in brackets.")
			first = false
		}
		if err := d.question(ctx, name); err != nil {
			return err
		}
	}
	for {
		tested := d.effective().Target()
		report, err := d.tryOut(ctx)
		if err != nil {
			return err
		}
		if report.OK {
			return d.saveAndKeep(ctx)
		}
		if report.Finding.Leg == "login" && report.Sent {
			d.Typed.Forget()
		}
		again, err := d.afterFailure(ctx, report)
		if err != nil || !again {
			return err
		}
		if !report.Sent { // nobody has seen it: it is for what this draft comes to
			d.Typed.Move(tested, d.effective().Target())
		}
	}
}

// again gives the command that goes on with all that was said so far. A password is no part of it.
func (d *draft) again() string {
	run := []string{"add", d.at.Name}
	for _, flag := range AsFlags(d.layer) {
		run = append(run, flag...)
	}
	for flag, set := range map[string]bool{"--project": d.Project, "--replace": d.Replace, "--test": d.Making.Test} {
		if set {
			run = append(run, flag)
		}
	}
	if d.SecretFile != "" && d.SecretFile != "-" {
		run = append(run, "--secret-file", d.SecretFile)
	}
	return finding.Remedy{Run: run}.String()
}

// mostOffered is how many servers are offered.
const mostOffered = 9

// offerServers offers the servers that greet on this machine and the aliases, where no address
// was said. The choice is an answer for engine and address.
func (d *draft) offerServers(ctx context.Context) error {
	if profile.AddressOf(d.layer) != "" || d.layer["base"].Text != "" {
		return nil
	}
	limited, cancel := context.WithTimeout(ctx, cmp.Or(d.Look, 2*time.Second))
	defer cancel()
	seen, err := Looking{Run: d.Run, Only: []string{"listening"}}.Find(limited)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	wanted := d.layer["engine"].Text
	offers := slices.DeleteFunc(seen.Candidates, func(c discover.Candidate) bool {
		return err != nil || c.Left != "" || profile.AddressOf(c.Layer) == "" || wanted != "" && c.Engine != wanted
	})
	offers = offers[:min(len(offers), mostOffered)]
	var lines []string
	for _, c := range offers {
		info, _ := known.Info(c.Engine)
		line := profile.Resolve(d.Account(), "", c.Layer).Place() + "  " +
			strings.TrimSpace(info.Title+" "+outside.Cell(c.Version))
		if c.Taken != "" {
			line += "  (" + outside.Cell(c.Taken) + " leads there)"
		}
		lines = append(lines, line)
	}
	aliases := d.aliases()
	for _, name := range aliases {
		lines = append(lines, outside.Cell(name)+"  (an alias)")
	}
	if len(lines) == 0 {
		return nil // there is nothing to offer; what was not seen is typed
	}
	heading := "Servers on this machine"
	switch {
	case len(offers) == 0:
		heading = "Aliases"
	case len(aliases) > 0:
		heading += ", and aliases"
	}
	n, answer, err := d.pick(ctx, heading, "Which one (%s), or Enter for another: ", lines, func(answer string) bool {
		_, engine := profile.EngineOf(answer)
		return answer == "" || engine
	})
	said := profile.Origin{Layer: profile.LayerAnswer}
	switch {
	case err != nil:
		return err
	case n >= len(offers):
		d.layer["alias"] = profile.Value{Text: aliases[n-len(offers)], Origin: said}
	case n >= 0:
		for _, name := range append([]string{"engine"}, profile.AddressParts()...) {
			if v, ok := offers[n].Layer[name]; ok {
				d.layer[name] = profile.Value{Text: v.Text, List: v.List, Origin: said}
			}
		}
	case answer != "": // the answer to the next question
		name, _ := profile.EngineOf(answer)
		d.layer["engine"] = profile.Value{Text: name, Origin: said}
	}
	return nil
}

// sources says what a reference to a secret can be, for a person who is asked for one.
var sources = []string{
	"Enter alone: you type the password at the test; after a good one you choose where to store it.",
	"ask: you type it each time.",
	"wallet: it is stored encrypted. credentials: it is stored in a file that you alone can read. keyring: the " +
		"desktop stores it.",
	"env:VARIABLE, file:PATH or command: [PROGRAM, ARGUMENT]: it is read from there each time.",
	"container: it is the one by which the container was set up. cloud: the cloud gives a temporary login each time.",
	"none: the server asks for no password. empty: the password is empty.",
}

// needless reports whether a question makes no sense with what is known.
func (d *draft) needless(name string) bool {
	socket := d.layer["socket"].Text+d.layer["alias"].Text+d.layer["container"].Text+d.layer["cloud"].Text != ""
	if name == "user" && (d.effective().TakesLogin() || d.effective().NobodyLogsIn()) {
		return true // it comes with the login
	}
	return socket && (name == "host" || name == "port") || name == "secret" && d.parsed.Secret.Given()
}

// aliases gives the first names of the aliases in reach.
func (d *draft) aliases() []string {
	book, _, err := d.Aliases()
	if err != nil {
		return nil
	}
	names := book.Names()
	return names[:min(len(names), 20)]
}

// whole reports whether settings, with those of an alias or a base, say all that a person would
// be asked for; a port has its default.
func (d *draft) whole() bool {
	all := d.effective().Values
	for _, name := range asked {
		_, said := d.layer[name]
		layer := all[name].Origin.Layer
		if !said && layer != profile.LayerAlias && layer != profile.LayerBase && name != "port" && !d.needless(name) {
			return false
		}
	}
	return true
}

// question asks for one setting until the answer is usable.
func (d *draft) question(ctx context.Context, name string) error {
	s, _ := profile.Find(name)
	for {
		otherwise := d.effective().Values[name].Text
		prompt := "  " + strings.ReplaceAll(name, ".", " ")
		switch name {
		case "engine":
			prompt += " (" + strings.Join(known.Names(), ", ") + ")"
		case "host":
			if aliases := d.aliases(); len(aliases) > 0 {
				prompt += " (or an alias: " + strings.Join(aliases, ", ") + ")"
			}
		case "secret":
			prompt = "  password, not shown: Enter to type it at the test, or where it comes from (? lists them)"
		}
		if otherwise != "" {
			prompt += " [" + otherwise + "]"
		}
		ask := func(ctx context.Context, prompt string) (string, error) { return d.Who.Ask(ctx, prompt+": ") }
		if name == "secret" {
			ask = d.Who.Hidden // it may be the password itself
		}
		text, err := ask(ctx, prompt)
		if err != nil {
			return err
		}
		if text = strings.TrimSpace(text); text == "?" && name == "secret" {
			for _, line := range sources {
				d.Who.Say("    " + line)
			}
			continue
		}
		if text == "" && (otherwise != "" || name == "secret" || name == "database") {
			return nil
		}
		if text == "" {
			d.Who.Say("    There is no default for it: " + s.Meaning() + ".")
			continue
		}
		if name == "host" && strings.HasPrefix(text, "/") {
			s, _ = profile.Find("socket")
		}
		if name == "host" && slices.Contains(d.aliases(), text) {
			s, _ = profile.Find("alias")
		}
		if name == "host" || name == "socket" || name == "alias" {
			for _, each := range profile.AddressParts() {
				delete(d.layer, each)
			}
		}
		if err := Take(d.layer, s, text, profile.Origin{Layer: profile.LayerAnswer}); err != nil {
			if name == "secret" {
				d.Who.Say("    That is not where a password comes from (? lists what is). The password itself " +
					"is asked for at the test: Enter alone.")
				continue
			}
			d.Who.Say("    " + strings.TrimPrefix(err.Error(), world.FlagMark) + ".")
			continue
		}
		if name == "secret" {
			d.Who.Say("    It comes from: " + d.layer["secret"].Text)
		}
		return nil
	}
}

// suspects names the setting that most likely makes a leg fail.
var suspects = map[string]string{
	"name": "host", "port": "port", "greeting": "port", "tls": "tls", "login": "user", "database": "database",
	"secret": "secret",
}

// afterFailure asks what to do after a failed test; again says whether to test once more.
func (d *draft) afterFailure(ctx context.Context, report *checkup.Report) (again bool, err error) {
	for {
		answer, err := d.Who.Ask(ctx, "The test failed. Change a value, test again, save, or leave? [change] ")
		if err != nil {
			return false, err
		}
		switch answer {
		case "test", "t", "again":
			return true, nil
		case "save", "s":
			return false, d.save(ctx)
		case "leave", "l":
			d.Who.Say(d.at.Name + " was not saved.")
			return false, world.Error{Code: report.Exit}
		case "", "change", "c":
			return true, d.changeOne(ctx, suspects[report.Finding.Leg])
		}
		d.Who.Say("  Type change, test, save or leave.")
	}
}

// changeOne asks which setting is to change, and to what.
func (d *draft) changeOne(ctx context.Context, suspect string) error {
	for {
		prompt := "  Which setting"
		if suspect != "" {
			prompt += " [" + suspect + "]"
		}
		word, err := d.Who.Ask(ctx, prompt+": ")
		if err != nil {
			return err
		}
		if word == "" {
			word = suspect
		}
		var names []string
		for _, s := range profile.Settings {
			names = append(names, s.Flag)
			if s.Flag != word || strings.HasSuffix(s.Name, ".") {
				continue
			}
			old, had := d.layer[s.Name]
			err := d.question(ctx, s.Name)
			if _, has := d.layer[s.Name]; had && !has && s.Name != "host" && s.Name != "socket" {
				d.layer[s.Name] = old
			}
			return err
		}
		d.Who.Say("  There is no setting of that name; it is one of " + strings.Join(names, ", ") + ".")
	}
}
