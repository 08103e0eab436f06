package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
)

var cloudCommand = command{
	name: "cloud", synopsis: "ACTION", about: "sign in to a cloud, see its servers, and have an address let in",
	text: `A cloud runs database servers, and says where they are. You give it a name of your own, an account, and sign in once; a profile
then names a server as ACCOUNT/SERVER instead of a host:

  gharbor cloud add fellside https://cloud.fellside.example
  gharbor cloud sign-in fellside
  gharbor cloud servers fellside
  gharbor add huts/live --cloud fellside/bunkhouse --database bunkhouse --secret cloud

Accounts are yours alone, never a project's. The sign-in is stored in the state folder, encrypted with a key that your wallet or keyring
holds. A token goes to the cloud's own address and to no other. What a cloud must serve is in docs/cloud.md.

A server's network lets nobody in at first: gharbor cloud admit has your address let in for a time, and the cloud ends it.`,
	examples: []string{"gharbor cloud add fellside https://cloud.fellside.example",
		"gharbor cloud sign-in fellside", "gharbor cloud admit huts/live --for 2h"},
	subs: []*command{
		actionOf[ofClouds, cloudAdd, struct{}]("cloud add", "NAME URL",
			"name a cloud, once it has shown that it is one", "",
			"gharbor cloud add fellside https://cloud.fellside.example"),
		actionOf[ofClouds, cloudRemove, struct{}]("cloud remove", "NAME",
			"take an account away; it is signed out first", "", "gharbor cloud remove fellside --yes"),
		actionOf[ofClouds, cloudSignIn, struct{}]("cloud sign-in", "[NAME]",
			"sign in: compare a code here with the one in a browser", "", "gharbor cloud sign-in fellside",
			"gharbor cloud sign-in fellside --open"),
		actionOf[ofClouds, cloudSignOut, struct{}]("cloud sign-out", "[NAME]",
			"end the sign-in, here and at the cloud", "", "gharbor cloud sign-out fellside"),
		actionOf[ofClouds, cloudStatus, struct{}]("cloud status", "",
			"show who is signed in where, and which admissions are worth a look", "", "gharbor cloud status"),
		actionOf[ofClouds, cloudServers, struct{}]("cloud servers", "[NAME]", "list the servers of an account",
			"", "gharbor cloud servers fellside"),
		actionOf[ofClouds, cloudShow, struct{}]("cloud show", "SERVER",
			"show one server: SERVER, or ACCOUNT/SERVER", "", "gharbor cloud show fellside/bunkhouse"),
		actionOf[ofClouds, cloudAdmit, struct{}]("cloud admit", "PROFILE",
			"have this machine's address let in, and wait until the server greets", "",
			"gharbor cloud admit huts/live --for 2h",
			"gharbor cloud admit huts/live --range 203.0.113.0/28 --note office"),
		actionOf[ofClouds, cloudAdmissions, struct{}]("cloud admissions", "[NAME]",
			"list what you have had let in", "", "gharbor cloud admissions"),
		actionOf[ofClouds, cloudWithdraw, struct{}]("cloud withdraw", "ADMISSION…",
			"take admissions back, by their ids", "", "gharbor cloud withdraw adm-1 --yes"),
	},
}

// ofClouds is what the actions of the command cloud have in common.
type ofClouds struct{}

func (ofClouds) flags(fs flagSet, run *harbor.Run, own any) {
	if _, is := own.(*cloudAdd); !is {
		walletFlags(fs, run)
	}
}

func (ofClouds) about(*call, any) (none struct{}, err error) { return none, nil }

func (ofClouds) failed(c *call, _ struct{}, err error) error { return c.cloudFailed(err) }

// name gives the one name that an action was given, "" for none.
func (c *call) name() string { return strings.Join(c.names, "") }

// cloudFailed prints what a cloud, or the way to its server, has against an action.
func (c *call) cloudFailed(err error) error {
	var of *clouds.Failed
	var failed *harbor.Failed
	f := finding.Finding{}
	switch {
	case errors.As(err, &of):
		about := finding.About{Facts: of.Err.Facts}
		if c.about != "" {
			about.Again.Name = c.about
		}
		var seen []string
		for _, fact := range []struct {
			name  finding.Fact
			words string
		}{{finding.FactNames, "there are: "}} {
			if of.Err.Facts[fact.name] != "" {
				seen = append(seen, fact.words+outside.Cell(of.Err.Facts[fact.name]))
			}
		}
		if !of.Err.Words.Empty() {
			seen = append(seen, cloud.Speaker(of.Err)+": "+of.Err.Words.String())
		}
		for _, line := range of.Err.Tried {
			seen = append(seen, outside.Text(line))
		}
		f = finding.Make(of.Err.Code, about, seen...)
	case errors.As(err, &failed):
		f = failed.Finding
	default:
		return c.failed(err)
	}
	if c.json {
		_ = report.JSON(c.Stdout, map[string]any{"finding": f, "exit": f.Exit()})
	}
	report.Finding(c.Stderr, f, c.about)
	return world.Error{Code: f.Exit()}
}

type cloudAdd struct {
	ca      string
	replace bool
}

func (o *cloudAdd) flags(fs flagSet, _ *harbor.Run) {
	fs.textFlag("ca", &o.ca)
	fs.onFlag("replace", &o.replace)
}

func (o *cloudAdd) work(ctx context.Context, c *call, _ struct{}) error {
	done := c.Busy("asking " + clip(c.names[1]))
	a, err := c.clouds().AddCloud(ctx, c.names[0], c.names[1], o.ca, o.replace)
	done()
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Saved the cloud account %s, for %s\nSign in with: gharbor cloud sign-in %s\n",
		a.Name, a.Origin, a.Name)
	return nil
}

type cloudRemove struct{ consent }

func (o *cloudRemove) work(ctx context.Context, c *call, _ struct{}) error {
	a, err := c.CloudAccount(c.names[0])
	if err != nil {
		return err
	}
	meant, err := c.Consent(ctx, o.yes, "Take the cloud account "+a.Name+" ("+a.Origin.String()+") away?",
		"cloud remove would take "+a.Name+" away")
	if err != nil {
		return err
	}
	if !meant {
		fmt.Fprintln(c.Stderr, "Nothing was removed.")
		return nil
	}
	if err := c.clouds().RemoveCloud(ctx, a.Name); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Removed the cloud account %s\n", a.Name)
	return nil
}

type cloudSignIn struct{ open bool }

func (o *cloudSignIn) flags(fs flagSet, run *harbor.Run) {
	fs.onFlag("open", &o.open)
	fs.wordFlag("store", []string{"wallet", "keyring"}, "", &run.Keep)
}

func (o *cloudSignIn) work(ctx context.Context, c *call, _ struct{}) error {
	a, err := c.CloudAccount(c.name())
	if err != nil {
		return err
	}
	waiting := func() {}
	signed, where, err := c.clouds().SignIn(ctx, a.Name, func(asked *cloud.Asked) error {
		report.SignIn(c.Stderr, a, asked)
		if o.open {
			page := asked.Page
			if asked.Whole != "" {
				page = asked.Whole
			}
			if err := c.openPage(page); err != nil {
				c.Note("%v", err)
			}
		}
		waiting = c.Busy("waiting for the confirmation, until " + asked.End.Local().Format("15:04:05"))
		return nil
	}, func(w cloud.Waiting) {
		if w.Lost != nil {
			waiting()
			p, _ := finding.AsProblem(w.Lost)
			c.Note("%s It is asked again at %s.",
				outside.Text(finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause),
				w.Next.Local().Format("15:04:05"))
			waiting = c.Busy("waiting for the confirmation")
		}
	})
	waiting()
	if err != nil {
		return err
	}
	who := ""
	if signed.Who != "" {
		who = " as " + outside.Cell(signed.Who)
	}
	fmt.Fprintf(c.Stdout, "Signed in to %s%s\n", a.Name, who)
	c.Note("the sign-in is encrypted; its key is in %s", where)
	return nil
}

// openPage opens a page in this machine's browser. The address was checked when it came.
func (c *call) openPage(page string) error {
	words := map[string][]string{"darwin": {"open"}, "windows": {"rundll32", "url.dll,FileProtocolHandler"}}[runtime.GOOS]
	if words == nil {
		words = []string{"xdg-open"}
	}
	program, err := c.Account().Program(words[0])
	if err != nil {
		return fmt.Errorf("no browser can be opened here: there is no program %s", words[0])
	}
	cmd := exec.Command(program, append(words[1:], page)...)
	cmd.Env = c.Environ
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("no browser could be opened: %v", err)
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

type cloudSignOut struct{ noFlags }

func (cloudSignOut) work(ctx context.Context, c *call, _ struct{}) error {
	a, err := c.CloudAccount(c.name())
	if err != nil {
		return err
	}
	if err := c.clouds().SignOut(ctx, a.Name); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Signed out of %s\n", a.Name)
	return nil
}

type cloudStatus struct {
	noFlags
	inJSON
}

func (cloudStatus) work(ctx context.Context, c *call, _ struct{}) error {
	done := c.Busy("asking")
	list, err := c.clouds().CloudStatus(ctx, true)
	done()
	if err != nil {
		return err
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"accounts": list})
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "No cloud accounts yet. Make one with: gharbor cloud add NAME URL")
		return nil
	}
	var rows [][]string
	for _, s := range list {
		state := "signed out"
		switch {
		case s.Broken != "":
			state = "(broken)"
		case s.Finding != nil:
			state = s.Finding.Code.Words()
		case s.Signed:
			state = "signed in as " + s.Who
		}
		rows = append(rows, []string{s.Account, s.URL, state, day(s.Since), s.Caller})
	}
	report.Table(c.Stdout, []string{"account", "cloud", "state", "since", "it sees you as"}, rows, nil)
	for _, s := range list {
		switch {
		case s.Broken != "":
			c.Note("%s: %s", s.Account, s.Broken)
		case s.Finding != nil:
			c.Note("%s: %s", s.Account, s.Finding.Cause)
			for _, remedy := range s.Finding.Try[:min(1, len(s.Finding.Try))] {
				c.Note("%s", remedy)
			}
		}
		for _, each := range s.LeftOver {
			c.Note("%s: the admission %s of %s at %s: %s; gharbor cloud withdraw %s", s.Account, each.ID,
				each.Range, outside.Cell(each.Admission.Of()), strings.Join(each.Why, ", and "), each.ID)
		}
	}
	return nil
}

func day(text string) string {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return ""
	}
	return at.Local().Format("2006-01-02 15:04")
}

type cloudServers struct {
	noFlags
	inJSON
}

func (cloudServers) work(ctx context.Context, c *call, _ struct{}) error {
	a, list, err := c.clouds().CloudServers(ctx, c.name())
	if err != nil {
		return err
	}
	if c.json {
		if list == nil {
			list = []cloud.Server{}
		}
		return report.JSON(c.Stdout, map[string]any{"account": a.Name, "servers": list})
	}
	if len(list) == 0 {
		fmt.Fprintf(c.Stdout, "The account %s has no servers that this sign-in may see.\n", a.Name)
		return nil
	}
	report.CloudServers(c.Stdout, list)
	return nil
}

type cloudShow struct {
	noFlags
	inJSON
}

func (cloudShow) work(ctx context.Context, c *call, _ struct{}) error {
	a, s, databases, let, err := c.clouds().CloudServer(ctx, c.names[0])
	if err != nil {
		return err
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"account": a.Name, "server": s, "databases": databases,
			"admissions": let})
	}
	report.CloudServer(c.Stdout, a, s, databases, let)
	return nil
}

type cloudAdmit struct {
	inJSON
	consent
	harbor.Admitting
	cidr    string
	forever bool
}

func (o *cloudAdmit) flags(fs flagSet, run *harbor.Run) {
	o.consent.flags(fs, run)
	fs.spanFlag("for", 2*time.Hour, &o.For)
	fs.onFlag("without-end", &o.forever)
	fs.textFlag("range", &o.cidr)
	fs.textFlag("note", &o.Note)
	fs.spanFlag("patience", 10*time.Minute, &o.Patience)
}

func (o *cloudAdmit) work(ctx context.Context, c *call, _ struct{}) error {
	c.about = c.names[0]
	switch {
	case o.For < time.Minute || o.For > 31*24*time.Hour:
		return usage("--for is from 1m to 744h (31 days); for more, write: --without-end")
	case !outside.Clean(o.Note) || len(o.Note) > 200:
		return usage("--note takes up to 200 bytes that can be shown")
	}
	if o.forever {
		o.For = 0
	}
	if o.cidr != "" {
		var err error
		if o.Range, err = netip.ParsePrefix(o.cidr); err != nil {
			addr, bad := netip.ParseAddr(o.cidr)
			if bad != nil || addr.Zone() != "" {
				return usage("--range takes an address or a range of addresses, such as --range 203.0.113.0/28")
			}
			o.Range = netip.PrefixFrom(addr, addr.BitLen())
		}
		if o.Range.Masked() != o.Range {
			return usage("--range %s: the range of this address is written with its first address, such as --range %s", o.Range,
				o.Range.Masked())
		}
	}
	done := func() {}
	began := time.Now()
	o.Told = func(what string, progress int) {
		if progress >= 0 {
			what += fmt.Sprintf(": %d %%", progress)
		}
		done()
		done = c.Busy(fmt.Sprintf("%s (%s)", what, time.Since(began).Round(time.Second)))
	}
	o.Meant = func(ctx context.Context, p harbor.Planned) (bool, error) {
		lines := []string{fmt.Sprintf("%s will let in %s, %s.", p.Server, rangeWords(p), report.Until(p.Until))}
		if p.Until == nil {
			lines = append(lines, "It has no end: it stays until someone withdraws it.")
		}
		for _, line := range lines {
			report.Wrapped(c.Stderr, "", "  ", line)
		}
		return c.Consent(ctx, o.yes, "Let it in?", "cloud admit would let "+p.Range.String()+" in at "+p.Server)
	}
	o.Run = c.Run
	plan, meant, err := o.LetIn(ctx, c.names[0])
	done()
	if err != nil {
		return err
	}
	if !meant {
		fmt.Fprintln(c.Stderr, "Nothing was let in.")
		return nil
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"admitted": plan, "greets": plan.Range.Contains(plan.Caller)})
	}
	switch {
	case !plan.Range.Contains(plan.Caller):
		fmt.Fprintf(c.Stdout, "%s lets in %s, %s\n", plan.Server, plan.Range, report.Until(plan.Until))
	case plan.Already:
		fmt.Fprintf(c.Stdout, "%s lets %s in already, and the server greets\n", plan.Server, plan.Range)
	default:
		fmt.Fprintf(c.Stdout, "%s lets in %s, %s, and the server greets\n", plan.Server, plan.Range, report.Until(plan.Until))
	}
	return nil
}

// rangeWords says what will be let in.
func rangeWords(p harbor.Planned) string {
	switch {
	case p.Range.IsSingleIP() && p.Range.Addr() == p.Caller:
		return p.Range.Addr().String() + " (this machine, as the cloud sees it)"
	case p.Range.IsSingleIP():
		return p.Range.Addr().String() + " (this machine is " + p.Caller.String() + ")"
	}
	return p.Range.String() + ", which is more than one address (this machine is " + p.Caller.String() + ")"
}

type cloudAdmissions struct {
	noFlags
	inJSON
}

func (cloudAdmissions) work(ctx context.Context, c *call, _ struct{}) error {
	all, err := c.clouds().CloudAdmissions(ctx, c.name())
	if err != nil {
		return err
	}
	type row struct {
		Account string `json:"account"`
		clouds.LeftOver
	}
	rows := []row{}
	for account, list := range all {
		for _, each := range list {
			rows = append(rows, row{account, each})
		}
	}
	slices.SortFunc(rows, func(a, b row) int {
		return strings.Compare(a.Account+" "+a.Admission.Of()+" "+a.ID, b.Account+" "+b.Admission.Of()+" "+b.ID)
	})
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"admissions": rows})
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.Stdout, "You have had nothing let in that is still valid.")
		return nil
	}
	var cells [][]string
	for _, r := range rows {
		line := []string{r.ID, r.Account + "/" + r.Admission.Of(), r.Range.String(), report.Until(r.Until),
			strings.Join(r.Why, "; "), r.Note}
		for i := range line {
			line[i] = outside.Cell(line[i])
		}
		cells = append(cells, line)
	}
	report.Table(c.Stdout, []string{"admission", "server", "range", "until", "worth a look", "note"}, cells, nil)
	return nil
}

type cloudWithdraw struct {
	consent
	account string
}

func (o *cloudWithdraw) flags(fs flagSet, run *harbor.Run) {
	o.consent.flags(fs, run)
	fs.textFlag("account", &o.account)
}

func (o *cloudWithdraw) work(ctx context.Context, c *call, _ struct{}) error {
	words := make([]string, len(c.names))
	for i, name := range c.names {
		words[i] = clip(name)
	}
	meant, err := c.Consent(ctx, o.yes, "Withdraw "+strings.Join(words, ", ")+"?",
		"cloud withdraw would take back "+strings.Join(words, ", "))
	if err != nil {
		return err
	}
	if !meant {
		fmt.Fprintln(c.Stderr, "Nothing was withdrawn.")
		return nil
	}
	done := func() {}
	err = c.clouds().WithdrawCloud(ctx, o.account, c.names, func(id string, progress int) {
		done()
		done = c.Busy(fmt.Sprintf("withdrawing %s: %d %%", id, progress))
	}, func(a cloud.Admission) {
		done()
		done = func() {}
		fmt.Fprintf(c.Stdout, "Withdrew %s: %s at %s\n", a.ID, a.Range, outside.Cell(a.Of()))
	})
	done()
	return err
}
