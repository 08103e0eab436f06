package cli

import (
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/survey"
)

type surveyOptions struct {
	as, like, of, on  string
	system, sinceLast bool
	limit             int

	name, word, table string
	kind              survey.Listing
}

func (o *surveyOptions) flags(f flagSet, _ *harbor.Run) {
	f.wordFlag("as", report.ListForms, "table", &o.as)
	f.textFlag("like", &o.like)
	f.textFlag("of", &o.of)
	f.textFlag("on", &o.on)
	f.onFlag("system", &o.system)
	f.onFlag("since-last", &o.sinceLast)
	f.numberFlag("limit", 1, 1<<31-1, 0, &o.limit)
}

// form gives where the form is.
func (o *surveyOptions) form() *string { return &o.as }

// surveys are the words for what a survey can list.
func surveys() []string {
	words := []string{"table"}
	for _, kind := range survey.Listings {
		words = append(words, string(kind.List))
	}
	slices.Sort(words)
	return words
}

// read takes the words of the command line.
func (o *surveyOptions) read(c *call) error {
	words := slices.Clone(c.names)
	if of, is := c.Env("GHARBOR_PROFILE"); is && of != "" && (len(words) == 0 || slices.Contains(surveys(), words[0])) {
		words = append([]string{of}, words...)
	}
	if len(words) == 0 {
		return usage("survey needs a profile's name: gharbor survey huts/local tables")
	}
	o.name, words = words[0], words[1:]
	if len(words) > 0 {
		o.word, words = words[0], words[1:]
	}
	if o.word == "table" {
		if len(words) != 1 {
			return usage("survey NAME table needs the name of one table: gharbor survey %s table booking", clip(o.name))
		}
		o.table, words = words[0], nil
	}
	if len(words) > 0 {
		return usage("survey lists one thing at a time: gharbor survey %s tables", clip(o.name))
	}
	known := o.word == "" || o.word == "table"
	if !known {
		if o.kind, known = survey.Find(o.word); !known {
			if near := profile.Nearest(o.word, surveys()); near != "" {
				return usage("survey has no list %s; did you mean %s? For example: gharbor survey %s %s",
					clip(o.word), near, clip(o.name), near)
			}
			return usage("survey has no list %s; there are %s. For example: gharbor survey %s tables",
				clip(o.word), strings.Join(surveys(), ", "), clip(o.name))
		}
	}
	return o.fits()
}

// fits refuses flags that what is listed does not use.
func (o *surveyOptions) fits() error {
	what := "the list of " + o.word
	switch o.word {
	case "":
		what = "the page about a server"
	case "table":
		what = "the page about a table"
	}
	page := o.kind.List == ""
	if page && o.as == "csv" {
		return usage("%s has several lists, and CSV has room for one: name one, such as gharbor survey %s columns --as csv",
			what, clip(o.name))
	}
	for _, each := range []struct {
		flag     string
		set, has bool
	}{
		{"like", o.like != "", !page}, {"limit", o.limit != 0, !page}, {"of", o.of != "", o.kind.Of},
		{"on", o.on != "", o.kind.On}, {"system", o.system, o.kind.System || o.word == ""},
		{"since-last", o.sinceLast, o.kind.List == engine.ListRights},
	} {
		if each.set && !each.has {
			return usage("%s does not use --%s: leave it out, such as gharbor survey %s %s", what, each.flag,
				clip(o.name), strings.TrimSpace(o.word+" "+clip(o.table)))
		}
	}
	if o.sinceLast && (o.like != "" || o.on != "" || o.limit != 0) {
		return usage("--since-last compares all rights: leave out --like, --on and --limit, such as gharbor "+
			"survey %s rights --since-last", clip(o.name))
	}
	return nil
}
