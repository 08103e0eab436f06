package cli

import (
	"context"
	"flag"
	"fmt"
	"io"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
)

var meaningCommand = command{
	name: "meaning", synopsis: "CODE…", about: "say what a finding means and what to try",
	text:     "Words in capitals stand for what is known of a connection when the finding is about one.",
	examples: []string{"gharbor meaning port.refused", "gharbor meaning --all --json"},
	json:     true,
	flags:    func(fs *flag.FlagSet, c *call) { fs.BoolVar(&c.all, "all", false, "every finding") },
	run:      runMeaning,
}

func runMeaning(_ context.Context, c *call) error {
	entries := finding.All()
	if !c.all {
		if len(c.names) == 0 {
			return usage("meaning wants a finding's code, such as port.refused; --all prints every one")
		}
		var codes []string
		for _, e := range entries {
			codes = append(codes, e.Code)
		}
		entries = nil
		for _, code := range c.names {
			e, known := finding.Lookup(code)
			if !known {
				hint := "gharbor meaning --all lists them"
				if near := profile.Nearest(code, codes); near != "" {
					hint = "did you mean " + near + "?"
				}
				return wrong("there is no finding %s; %s", clip(code), hint)
			}
			entries = append(entries, e)
		}
	}
	if c.json {
		type meaning struct {
			Code    string   `json:"code"`
			Leg     string   `json:"leg"`
			Cause   string   `json:"cause"`
			Waiting bool     `json:"waiting_may_mend"`
			Try     []string `json:"try"`
		}
		list := []meaning{}
		for _, e := range entries {
			m := meaning{e.Code, finding.Leg(e.Code), e.General(), e.Mends, []string{}}
			for _, remedy := range e.Try {
				m.Try = append(m.Try, finding.Words(remedy))
			}
			list = append(list, m)
		}
		return writeJSON(c.Stdout, map[string]any{"findings": list})
	}
	for i, e := range entries {
		if i > 0 {
			fmt.Fprintln(c.Stdout)
		}
		c.printMeaning(c.Stdout, e)
	}
	return nil
}

func (c *call) printMeaning(w io.Writer, e finding.Entry) {
	fmt.Fprintf(w, "%s  (leg %s)\n", paint(w, strong, e.Code), finding.Leg(e.Code))
	wrapped(w, "  ", "  ", e.General())
	if e.Mends {
		fmt.Fprintln(w, "  Time may mend it by itself.")
	}
	for i, remedy := range e.Try {
		wrapped(w, fmt.Sprintf("  %2d. ", i+1), "      ", finding.Words(remedy))
	}
}
