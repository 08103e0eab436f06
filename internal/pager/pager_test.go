package pager

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

func temp(t *testing.T) func() (*os.File, error) {
	return func() (*os.File, error) { return os.CreateTemp(t.TempDir(), "rows") }
}

func filled(t *testing.T, rows int, size int) *Store {
	t.Helper()
	s := NewStore(temp(t))
	t.Cleanup(s.Close)
	for i := range rows {
		if err := s.Add([]string{fmt.Sprint(i), strings.Repeat("x", i%(size+1)), ""}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// TestStore gives each row back as it was, from memory and from a file, from each place in a chunk.
func TestStore(t *testing.T) {
	for _, c := range []struct{ rows, size int }{{0, 0}, {1, 0}, {chunk, 9}, {1000, 20}, {20000, 300}} {
		s := filled(t, c.rows, c.size)
		for _, from := range []int{0, 1, chunk - 1, chunk, chunk + 1, c.rows - 1, c.rows, -1} {
			for _, n := range []int{0, 1, 2, chunk, 3 * chunk} {
				rows, err := s.Rows(from, n)
				want := max(min(n, c.rows-from), 0)
				if from < 0 {
					want = 0
				}
				if err != nil || len(rows) != want {
					t.Fatalf("%d rows: %d from %d: %d, %v", c.rows, n, from, len(rows), err)
				}
				for i, row := range rows {
					if row[0] != fmt.Sprint(from+i) || len(row[1]) != (from+i)%(c.size+1) || len(row) != 3 {
						t.Fatalf("row %d: %q", from+i, row)
					}
				}
			}
		}
	}
}

// TestNothingIsLeft makes the file of a long result: it has no name while it is open, and whoever
// reads a closed store is told.
func TestNothingIsLeft(t *testing.T) {
	folder := t.TempDir()
	s := NewStore(func() (*os.File, error) { return os.CreateTemp(folder, "rows") })
	row := []string{strings.Repeat("x", 1000)}
	for range 5000 {
		if err := s.Add(row); err != nil {
			t.Fatal(err)
		}
	}
	if s.file == nil {
		t.Error("all is in memory")
	}
	if found, _ := filepath.Glob(folder + "/*"); len(found) > 0 && s.named == "" {
		t.Errorf("%v has a name", found)
	}
	s.Close()
	s.Close()
	if found, _ := filepath.Glob(folder + "/*"); len(found) > 0 {
		t.Errorf("%v is left", found)
	}
	if _, err := s.Rows(0, 1); !errors.Is(err, ErrClosed) {
		t.Errorf("%v", err)
	}
	if err := s.Add(row); !errors.Is(err, ErrClosed) {
		t.Errorf("%v", err)
	}
}

// TestWhoeverAddsWaits fills a store: it says so, and giving the rows up ends the wait.
func TestWhoeverAddsWaits(t *testing.T) {
	s := NewStore(temp(t))
	s.Most = 1000
	ended := make(chan error, 1)
	go func() {
		for {
			if err := s.Add([]string{"0123456789"}); err != nil {
				ended <- err
				return
			}
		}
	}()
	for end := time.Now().Add(10 * time.Second); ; {
		if _, _, waits := s.State(); waits {
			break
		}
		if time.Now().After(end) {
			t.Fatal("it does not wait")
		}
		time.Sleep(time.Millisecond)
	}
	v := &View{Store: s, Headings: []string{"a"}, Columns: 100, Lines: 10}
	if screen := strings.Join(v.Screen(), "\n"); !strings.Contains(screen, "the server waits") {
		t.Error(screen)
	}
	s.Close()
	if err := <-ended; !errors.Is(err, ErrClosed) {
		t.Errorf("%v", err)
	}
}

// TestView moves over rows and columns: nothing is wider than the screen, the first column stays,
// and no move leads out.
func TestView(t *testing.T) {
	s := NewStore(temp(t))
	defer s.Close()
	headings := []string{"id"}
	for c := range 30 {
		headings = append(headings, fmt.Sprintf("column %d 屋", c))
	}
	for i := range 500 {
		row := []string{fmt.Sprintf("row %d", i)}
		for c := range 30 {
			row = append(row, strings.Repeat("ö屋", (i+c)%40))
		}
		if err := s.Add(row); err != nil {
			t.Fatal(err)
		}
	}
	s.Whole()
	keys := []Key{Up, Down, Left, Right, PageUp, PageDown, Home, End, NoKey}
	for _, columns := range []int{20, 60, 100, 300} {
		v := &View{Store: s, Headings: headings, Right: map[int]bool{2: true}, Columns: columns, Lines: 24}
		for i := range 150 {
			v.Press(keys[(i*7+i/11)%len(keys)])
			screen := v.Screen()
			if len(screen) != 24 {
				t.Fatalf("%d lines", len(screen))
			}
			for _, line := range screen {
				if wide(line) > columns {
					t.Fatalf("%d columns of %d: %s", wide(line), columns, line)
				}
			}
			if !strings.HasPrefix(screen[0], "id") || !strings.HasPrefix(screen[2], "row ") {
				t.Fatalf("the first column is not there: %s", screen[2])
			}
		}
		v.Press(Home)
		v.Press(Up)
		if v.top != 0 {
			t.Error(v.top)
		}
		v.Press(End)
		if v.Press(PageDown); v.top != 480 || columns >= 60 && !strings.Contains(v.Screen()[22], "rows 481 to 500 of 500") {
			t.Errorf("%d %s", v.top, v.Screen()[22])
		}
		for range 100 {
			v.Press(Right)
		}
		if got := v.columns(); got[len(got)-1] != 30 {
			t.Errorf("%d columns: the last column is not reached: %v", columns, got)
		}
		if v.Fits() {
			t.Error("it fits")
		}
	}
}

func wide(line string) int { return len([]rune(line)) + strings.Count(line, "屋") }

// TestSeek finds in any case of letters, goes on from there, and says when there is no more.
func TestSeek(t *testing.T) {
	s := filled(t, 5000, 3)
	s.Whole()
	v := &View{Store: s, Headings: []string{"number", "text", "none"}, Columns: 80, Lines: 24}
	v.Seek("", nil)
	if v.Say != "nothing was looked for yet" {
		t.Error(v.Say)
	}
	v.Seek("4321", nil)
	if v.found != 4321 || v.top != 4321 || !strings.Contains(v.Say, "row 4322, column number") {
		t.Errorf("%d %s", v.found, v.Say)
	}
	v.Press(Home)
	v.Seek("XX", nil)
	first := v.found
	v.Seek("", nil)
	if first != 2 || v.found != 3 {
		t.Errorf("%d %d", first, v.found)
	}
	v.Seek("nowhere", nil)
	if !strings.Contains(v.Say, "not in what follows") {
		t.Error(v.Say)
	}
	v.Press(Home)
	v.Seek("nowhere", func() bool { return false })
	if !strings.Contains(v.Say, "given up") {
		t.Error(v.Say)
	}
}

func TestFits(t *testing.T) {
	for _, c := range []struct {
		rows, columns int
		want          bool
	}{{0, 80, true}, {20, 80, true}, {21, 80, false}, {5, 10, false}} {
		s := filled(t, c.rows, 3)
		v := &View{Store: s, Headings: []string{"number", "text", "none"}, Columns: c.columns, Lines: 24}
		if v.Fits() {
			t.Error("what is not whole fits")
		}
		s.Whole()
		if v.Fits() != c.want {
			t.Errorf("%+v", c)
		}
	}
}

// TestKeys reads keys in one piece and byte by byte.
func TestKeys(t *testing.T) {
	for typed, want := range map[string][]Key{
		"\x1b[A\x1b[B": {Up, Down}, "\x1bOC\x1bOD": {Right, Left}, "\x1b[5~\x1b[6~": {PageUp, PageDown},
		"\x1b[H\x1b[4~": {Home, End}, " n n": {PageDown, Next, PageDown, Next}, "q": {Leave}, "\x03": {Stop},
		"\x1b[200~n": {NoKey, Next}, "\r": {Down}, "xyz": nil, "\x1b[1;5C": {NoKey},
	} {
		if got, rest := Keys([]byte(typed), false); !slices.Equal(got, want) || len(rest) > 0 {
			t.Errorf("%q: %v %q", typed, got, rest)
		}
		var got []Key
		var rest []byte
		for _, c := range []byte(typed) {
			var more []Key
			more, rest = Keys(append(rest, c), false)
			got = append(got, more...)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%q by bytes: %v", typed, got)
		}
	}
	if got, rest := Keys([]byte("\x1b[Afhut\r"), false); !slices.Equal(got, []Key{Up, Find}) || string(rest) != "hut\r" {
		t.Errorf("%v %q", got, rest)
	}
	if got, rest := Keys([]byte("\x1b"), false); len(got) > 0 || len(rest) != 1 {
		t.Errorf("%v %q", got, rest)
	}
	if got, _ := Keys([]byte("\x1b"), true); !slices.Equal(got, []Key{Leave}) {
		t.Errorf("%v", got)
	}
}

func FuzzKeys(f *testing.F) {
	f.Add([]byte("\x1b[A\x1b["), false)
	f.Add([]byte("\x1b"), true)
	f.Fuzz(func(t *testing.T, typed []byte, alone bool) {
		if _, rest := Keys(typed, alone); alone && len(rest) > 0 && !bytes.ContainsAny(typed, "fF\x06") ||
			len(rest) > len(typed) {
			t.Errorf("%q is left of %q", rest, typed)
		}
	})
}
