package report

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"unicode/utf8"

	"gentle-harbor/internal/outside"
)

func TestText(t *testing.T) {
	var b bytes.Buffer
	w := &Text{To: &b}
	fmt.Fprintf(w, "%s at %s\n\tx", Paint(Bad, "FAILED"), "db\x1b[2J\u009b31m\u202e\r\xff")
	if want := "\x1b[31;1mFAILED\x1b[0m at db\\x1b[2J\\u009b31m\\u202e\\r\\xff\n\tx"; b.String() != want {
		t.Errorf("%q", b.String())
	}
	if Bare(w) != &b || Bare(&b) != &b {
		t.Error("the writer behind it is another")
	}
	if n, err := (&Text{To: full{}}).Write([]byte("x")); n != 0 || !errors.Is(err, errFull) {
		t.Errorf("%d, %v", n, err)
	}
}

var errFull = errors.New("full")

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errFull }

// FuzzText writes any bytes: what comes out has no control characters but those of colours.
func FuzzText(f *testing.F) {
	f.Add("a\x1b[31mb\uf8a1c\uf8a0\r\n\u0085\u2028\xc2")
	f.Fuzz(func(t *testing.T, in string) {
		var b bytes.Buffer
		if _, err := (&Text{To: &b}).Write([]byte(in)); err != nil {
			t.Fatal(err)
		}
		out := b.String()
		for _, colour := range []string{Good, Bad, Strong, Faint, "0"} {
			out = strings.ReplaceAll(out, "\x1b["+colour+"m", "")
		}
		if !utf8.ValidString(out) || strings.ContainsFunc(out, func(r rune) bool {
			return outside.Unsafe(r) && r != '\n' && r != '\t'
		}) {
			t.Errorf("%q leaves %q", in, out)
		}
	})
}

// TestNoInstruction has cells of a table, and lines of text, begin with what a build system takes
// for an instruction in a log: no line that is printed begins so.
func TestNoInstruction(t *testing.T) {
	for _, cell := range []string{"::error::hut", "  ::set-output name=x::y", "##[command]rm", "a ##[error] b",
		"\t::add-mask::x", "x\n::stop-commands::y"} {
		var b strings.Builder
		w := &Text{To: &b}
		Table(w, []string{"name", "value"}, [][]string{{cell, "1"}, {"2", cell}}, nil)
		fmt.Fprintln(w, cell)
		fmt.Fprint(w, "a beginning, ")
		fmt.Fprintln(w, cell)
		for line := range strings.Lines(b.String()) {
			if strings.HasPrefix(strings.TrimSpace(line), "::") || strings.Contains(line, "##[") {
				t.Errorf("%q gives the line %q", cell, line)
			}
		}
	}
	var b strings.Builder
	w := &Text{To: &b}
	fmt.Fprint(w, "at host:")
	fmt.Fprint(w, "::1 and a::b\n")
	if b.String() != "at host:::1 and a::b\n" {
		t.Errorf("what is within a line was changed: %q", b.String())
	}
}

// TestManyWriters has several goroutines write lines, as doors do that report: each line stays
// whole. Run it with -race.
func TestManyWriters(t *testing.T) {
	var b bytes.Buffer
	w := &Text{To: &b}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 50 {
				fmt.Fprintln(w, "the door of huts/near is open again")
			}
		})
	}
	all.Wait()
	if n := strings.Count(b.String(), "the door of huts/near is open again\n"); n != 400 ||
		b.Len() != 400*len("the door of huts/near is open again\n") {
		t.Errorf("%d whole lines", n)
	}
}
