package report

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
)

// flat takes documents apart whose values are texts, numbers and null; a text that begins with =
// is one that a spreadsheet runs.
type flat struct{}

func (flat) Members(text string) (list []engine.Member, err error) {
	var pairs [][2]string
	err = json.Unmarshal([]byte(text), &pairs)
	for _, p := range pairs {
		m := engine.Member{Name: p[0], Cell: engine.Cell{Text: p[1], Own: engine.Text}}
		switch {
		case p[1] == "":
			m.Cell = engine.Cell{Null: true, Own: engine.Null}
		case strings.Trim(p[1], "-0123456789") == "":
			m.Own = engine.Integer
		case strings.Trim(p[1], "-0123456789.") == "":
			m.Own = engine.Float
		}
		list = append(list, m)
	}
	return list, err
}

// TestDocumentsAsRows gives documents columns: the names of the first ones, each value as what it
// is by itself.
func TestDocumentsAsRows(t *testing.T) {
	doc := func(pairs ...string) string {
		var list [][2]string
		for i := 0; i < len(pairs); i += 2 {
			list = append(list, [2]string{pairs[i], pairs[i+1]})
		}
		text, _ := json.Marshal(list)
		return string(text)
	}
	many := make([]string, 120)
	for i := range many {
		many[i] = doc("n", fmt.Sprint(i))
	}
	wide := make([]string, 0, 2*mostNames+2)
	for i := range mostNames + 1 {
		wide = append(wide, fmt.Sprint("n", i), "1")
	}
	large := []string{doc("n", strings.Repeat("x", firstDocumentBytes)), doc("n", "1", "late", "2")}
	for _, c := range []struct {
		form string
		docs []string
		want string
		late string
	}{
		{"csv", []string{doc("a", "1", "b", "x"), doc("c", "-2.5"), doc("a", "")}, "a,b,c\n1,x,\n,,-2.5\n,,\n", ""},
		{"csv", []string{doc("a", "1"), doc("a", "=1+1"), doc("a", "-7")}, "a\n1\n'=1+1\n-7\n", ""},
		{"tsv", []string{doc("a", "1"), doc("b", "2")}, "a\tb\n1\t\\N\n\\N\t2\n", ""},
		{"bare", []string{doc("a", "1", "b", "2")}, "1\t2\n", ""},
		{"csv", nil, "document\n", ""},
		{"csv", []string{doc()}, "document\n\n", ""},
		{"table", []string{doc("a", "1", "b", "x"), doc("a", "20")}, "a   b\n──────────\n 1  x\n20  (null)\n", ""},
		{"table", []string{doc("a", "1"), doc("a", "x")}, "a\n─\n1\nx\n", ""},
		{"csv", append(many, doc("n", "1", "late", "2")), "",
			"document 121 has the name late, and none of the first 100 has it"},
		{"csv", []string{doc(wide...)}, "",
			fmt.Sprintf("document 1 has the name n%d, and there are %d names before it", mostNames, mostNames)},
		{"csv", large, "", "document 2 has the name late, and none of the first 1 has it"},
		{"table", append(many, doc("n", "1", "l\x1bate", "2")), "", ""},
	} {
		var out, errs bytes.Buffer
		r := &Results{Form: c.form, Out: &out, Errs: &errs, Formulas: true}
		p := r.Next()
		err := p.Columns([]engine.Column{{Name: "document", Kind: engine.JSON, Document: flat{}}})
		for _, d := range c.docs {
			if err == nil {
				err = p.Row([]engine.Cell{{Text: d}})
			}
		}
		if err == nil {
			err = p.Done(engine.Summary{Rows: int64(len(c.docs)), Affected: -1})
		}
		var late *LateName
		if is := errors.As(err, &late); is != (c.late != "") || is && late.Error() != c.late || !is && err != nil {
			t.Errorf("%s %.80v: %v", c.form, c.docs, err)
			continue
		}
		if err != nil && c.late == "" || c.want != "" && out.String() != c.want {
			t.Errorf("%s %.80v: %v\n%s", c.form, c.docs, err, out.String())
		}
		if c.form == "table" && len(c.docs) > 100 &&
			!strings.Contains(errs.String(), `first 100 documents, and later ones have more names: l`) ||
			strings.Contains(errs.String(), "\x1b") {
			t.Errorf("%q", errs.String())
		}
	}
	// What stands before the documents stays, and a failure prints those that came.
	var out, errs bytes.Buffer
	p := (&Results{Form: "csv", Out: &out, Errs: &errs}).Next()
	if err := errors.Join(p.Columns([]engine.Column{{Name: "profile", Kind: engine.Text},
		{Name: "document", Document: flat{}}}),
		p.Row([]engine.Cell{{Text: "huts/a"}, {Text: doc("n", "1")}})); err != nil {
		t.Fatal(err)
	}
	if broke := errors.New("the connection broke"); p.Failed(broke) != broke || out.String() != "profile,n\nhuts/a,1\n" {
		t.Error(out.String())
	}
	out.Reset()
	p = (&Results{Form: "jsonl", Out: &out, Errs: &errs}).Next()
	if err := errors.Join(p.Columns([]engine.Column{{Name: "document", Document: flat{}}}),
		p.Row([]engine.Cell{{Text: `{"a": "<b>"}`}}), p.Done(engine.Summary{Rows: 1})); err != nil ||
		out.String() != "{\"a\":\"<b>\"}\n" {
		t.Errorf("%v %s", err, out.String())
	}
}
