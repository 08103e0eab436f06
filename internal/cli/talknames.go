package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/lineedit"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/survey"
	"gentle-harbor/internal/talk"
)

// namesTime is how long the names of one kind may take, in the session itself.
const namesTime = 300 * time.Millisecond

// mostNames is how many names of a kind are kept.
const mostNames = 20_000

// learn asks for the names of what the server has, in the session, while it is idle: when it was
// opened, and after what may have changed them.
func (t *talker) learn(ctx context.Context) {
	if t.names != nil || t.session == nil || t.place.Transaction != engine.NoTransaction {
		return
	}
	t.names = talk.NewNames(t.language)
	from, can := engine.As[engine.Surveyor](t.session)
	if !can {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, namesTime)
	defer cancel()
	for _, list := range []engine.List{engine.ListTables, engine.ListSchemas, engine.ListDatabases, engine.ListColumns} {
		of := &takenNames{names: t.names}
		if _, err := survey.Take(ctx, from, survey.Request{List: list, Names: true, Limit: mostNames},
			of); err != nil || ctx.Err() != nil {
			break
		}
	}
	t.names.Done()
	t.stand()
}

// takenNames takes names from a list.
type takenNames struct {
	names  *talk.Names
	places map[string]int
}

// Columns implements engine.Rows.
func (l *takenNames) Columns(columns []engine.Column) error {
	l.places = map[string]int{}
	for i, c := range columns {
		l.places[c.Name] = i
	}
	return nil
}

// Row implements engine.Rows.
func (l *takenNames) Row(cells []engine.Cell) error {
	text := func(of string) string {
		if i, is := l.places[of]; is {
			return cells[i].Text
		}
		return ""
	}
	switch {
	case text("column") != "":
		l.names.Add("column", text("table"), text("column"))
	case text("table") != "":
		l.names.Add("table", text("schema"), text("table"))
	case text("schema") != "":
		l.names.Add("schema", "", text("schema"))
	default:
		l.names.Add("database", "", text("database"))
	}
	return nil
}

// Bytes implements engine.Rows.
func (*takenNames) Bytes([]byte) error { return engine.Malformed("data instead of rows") }

// offers gives what can end a text that is typed.
func (t *talker) offers(text string) (list []lineedit.Offer, from int) {
	var offers []talk.Offer
	if trimmed := strings.TrimLeft(text, " "); trimmed == talk.Lead || strings.HasPrefix(trimmed, talk.Lead+" ") {
		offers, from = talk.WordOffers(text, t.wordsAfter)
	} else {
		offers, from = t.names.Offers(t.language, text)
		if strings.TrimSpace(text[:from]) == "" && strings.HasPrefix(talk.Lead, text[from:]) && text[from:] != "" {
			offers = append(offers, talk.Offer{Word: talk.Lead})
		}
	}
	for _, each := range offers {
		list = append(list, lineedit.Offer{Word: each.Word, About: each.About})
	}
	return list, from
}

// wordsAfter gives the words that can come after some others, of which the lead word is the first.
func (t *talker) wordsAfter(before []string) []string {
	switch {
	case len(before) == 0:
		return []string{talk.Lead}
	case len(before) == 1:
		return slices.Sorted(slices.Values(slices.Concat(talkNamed, talkOther, talkOwn)))
	case len(before) == 2 && before[1] == "as":
		return report.RowForms
	case len(before) == 2 && before[1] == "help":
		return slices.Concat(talkNamed, talkOther)
	case len(before) == 2 && before[1] == "survey":
		return surveys()
	}
	return nil
}
