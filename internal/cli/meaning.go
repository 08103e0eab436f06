package cli

import (
	"context"
	"fmt"
	"io"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var meaningCommand = command{
	name: "meaning", synopsis: "CODE… | --at NAME",
	about: "say what a finding means and what to try, or why a server refused a login",
	text: `Words in capitals stand for what is known of a connection when the finding is about one.

--at NAME is about the last test of a profile, which failed. Where another profile of yours administers that server, it is asked, after its
expectations, which access rule or account decided about the login, and which statement fixes it. It only reads, and asks you first.`,
	examples: []string{"gharbor meaning port.refused", "gharbor meaning --all --json", "gharbor meaning --at huts/local"},
	json:     true,
	options:  optionsOf[meaningOptions],
}

type meaningOptions struct {
	all, yes bool
	at       string
}

func (o *meaningOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("all", &o.all)
	fs.textFlag("at", &o.at)
	fs.onFlag("yes", &o.yes)
}

func (o *meaningOptions) run(ctx context.Context, c *call) error {
	if o.at != "" {
		if len(c.names) > 0 || o.all {
			return usage("--at is about a profile's last test, and no code is given beside it: gharbor "+
				"meaning --at %s", clip(o.at))
		}
		return whyThere(ctx, c, o.at, o.yes)
	}
	entries := finding.All()
	if !o.all {
		if len(c.names) == 0 {
			return usage("meaning needs a finding's code: gharbor meaning port.refused")
		}
		var codes []string
		for _, e := range entries {
			codes = append(codes, string(e.Code))
		}
		entries = nil
		for _, code := range c.names {
			e, known := finding.Lookup(finding.Code(code).Now())
			if !known {
				hint := "To see them all: gharbor meaning --all"
				if near := profile.Nearest(code, codes); near != "" {
					hint = "Did you mean " + near + "?"
				}
				return wrong("there is no finding %s. %s", clip(code), hint)
			}
			entries = append(entries, e)
		}
	}
	if c.json {
		type meaning struct {
			Code    finding.Code `json:"code"`
			Leg     string       `json:"leg"`
			Cause   string       `json:"cause"`
			Waiting bool         `json:"waiting_helps"`
			Try     []string     `json:"try"`
		}
		list := []meaning{}
		for _, e := range entries {
			m := meaning{e.Code, e.Code.Leg(), e.General(), e.Waiting, []string{}}
			for _, remedy := range e.Try {
				m.Try = append(m.Try, remedy.InWords())
			}
			list = append(list, m)
		}
		return report.JSON(c.Stdout, map[string]any{"findings": list})
	}
	for i, e := range entries {
		if i > 0 {
			fmt.Fprintln(c.Stdout)
		}
		printMeaning(c.Stdout, e)
	}
	return nil
}

func printMeaning(w io.Writer, e finding.Entry) {
	fmt.Fprintf(w, "%s  (leg %s)\n", paint(w, strong, string(e.Code)), e.Code.Leg())
	report.Wrapped(w, "  ", "  ", e.General())
	if e.Waiting {
		fmt.Fprintln(w, "  It may go away by itself: waiting can help.")
	}
	for i, remedy := range e.Try {
		report.Wrapped(w, fmt.Sprintf("  %2d. ", i+1), "      ", remedy.InWords())
	}
}
