package checkup

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/finding"
)

// TestLastGoodIsThatOfTheWhole compares the last good test as it is read from the end with that
// of the whole, for histories of every shape.
func TestLastGoodIsThatOfTheWhole(t *testing.T) {
	h := History{Dir: t.TempDir()}
	random := rand.New(rand.NewPCG(1, 2))
	for n := range 500 {
		var lines []string
		for i := range random.IntN(6) {
			switch random.IntN(4) {
			case 0:
				lines = append(lines, []string{"", "not JSON", `{"ok":true}`, "null"}[random.IntN(4)])
			default:
				long := strings.Repeat("x", random.IntN(3)*fewTests/2) // so that the end that is read first does not always do
				lines = append(lines,
					fmt.Sprintf(`{"when":"2026-11-0%dT10:00:00Z","ok":%v,"code":"port.refused","once":%v,"account":"a\u001b%d","version":"%s"}`,
						i+1, random.IntN(2) == 0, random.IntN(3) == 0, i, long))
			}
		}
		text := strings.Join(lines, "\n") + strings.Repeat("\n", random.IntN(2))
		file := fmt.Sprintf("/profiles/p%d.yaml", n)
		path := h.file(file)
		must(t, os.MkdirAll(filepath.Dir(path), 0o700))
		must(t, os.WriteFile(path, []byte(text), 0o600))
		list, err := h.Read(file)
		must(t, err)
		want, wanted := LastGood(list)
		got, is, err := h.LastGood(file)
		if err != nil || is != wanted || !reflect.DeepEqual(got, want) {
			t.Fatalf("%q: %+v, not %+v (%v)", text, got, want, err)
		}
		list = slices.DeleteFunc(list, func(p Past) bool { return p.Once })
		when, ok, code, has, err := h.Newest(file)
		if err != nil || has != (len(list) > 0) {
			t.Fatalf("%q: newest: %t %v", text, has, err)
		}
		if has {
			if want := list[len(list)-1]; !when.Equal(want.When) || ok != want.OK || code != want.Code {
				t.Fatalf("%q: newest: %s %t %s, not %+v", text, when, ok, code, want)
			}
		}
	}
	if _, is, err := h.LastGood("/none"); is || err != nil {
		t.Errorf("%v %v", is, err)
	}
}

// TestAHistoryOfAnotherSize is over its bound by far, as a program of others may leave it: it is
// read, and the next test cuts it.
func TestAHistoryOfAnotherSize(t *testing.T) {
	h := History{Dir: t.TempDir()}
	past := Past{When: time.Date(2026, 11, 1, 10, 0, 0, 0, time.UTC), OK: true, Account: "warden_app"}
	must(t, h.Append(t.Context(), "/p", past))
	line, err := os.ReadFile(h.file("/p"))
	must(t, err)
	must(t, os.WriteFile(h.file("/p"), []byte(strings.Repeat(string(line), 6*maxHistory/len(line))), 0o600))
	if list, err := h.Read("/p"); err != nil || len(list) < 2*maxHistory/len(line)-2 {
		t.Errorf("%d tests, %v", len(list), err)
	}
	if _, has, err := h.LastGood("/p"); !has || err != nil {
		t.Error(err)
	}
	must(t, h.Append(t.Context(), "/p", past))
	if info, err := os.Stat(h.file("/p")); err != nil || info.Size() > 2*maxHistory {
		t.Errorf("%d bytes, %v", info.Size(), err)
	}
}

// TestATornLine appends to histories whose last line a crash has cut at each of its bytes: the
// tests before it and after it are all there.
func TestATornLine(t *testing.T) {
	h := History{Dir: t.TempDir()}
	past := Past{When: time.Date(2026, 11, 1, 10, 0, 0, 0, time.UTC), OK: true, Account: "warden_app"}
	must := func(err error) {
		t.Helper()
		must(t, err)
	}
	must(h.Append(t.Context(), "/p", past))
	one, err := os.ReadFile(h.file("/p"))
	must(err)
	for cut := range len(one) {
		must(os.WriteFile(h.file("/p"), append(slices.Clone(one), one[:cut]...), 0o600))
		must(h.Append(t.Context(), "/p", past))
		must(h.Append(t.Context(), "/p", past))
		if list, err := h.Read("/p"); err != nil || len(list) < 3 || len(list) > 4 || len(list) == 4 && cut < len(one)-1 {
			t.Fatalf("cut at %d: %d tests, %v", cut, len(list), err)
		}
	}
}

// TestTheKnownServerIsNotForgotten has failed tests, long ones, fill a history again and again
// after one good test: the server of that test stays known.
func TestTheKnownServerIsNotForgotten(t *testing.T) {
	h := History{Dir: t.TempDir()}
	file := filepath.Join(t.TempDir(), "p.yaml")
	good := Past{When: time.Unix(1e9, 0), OK: true, Identity: "the known one"}
	must(t, h.Append(t.Context(), file, good))
	long := finding.Finding{Code: finding.PortRefused, Cause: strings.Repeat("x", 300), Try: []finding.Remedy{}}
	for range 12 {
		long.Seen = append(long.Seen, strings.Repeat("y", 300))
	}
	for i := range 300 {
		if err := h.Append(t.Context(), file,
			Past{When: time.Unix(int64(1e9+i), 0), Code: finding.PortRefused, Finding: &long}); err != nil {
			t.Fatal(err)
		}
	}
	info, err := os.Stat(h.file(file))
	if err != nil || info.Size() > maxHistory+8<<10 {
		t.Fatalf("%v, %v", info, err)
	}
	past, ok, err := h.LastGood(file)
	list, err2 := h.Read(file)
	if err != nil || err2 != nil || !ok || past.Identity != "the known one" || !list[0].OK || len(list) > 100 {
		t.Errorf("%+v %v %v, %d tests, %v", past, ok, err, len(list), err2)
	}
	// A newer good one takes its place.
	newer := Past{When: time.Unix(2e9, 0), OK: true, Identity: "another"}
	must(t, h.Append(t.Context(), file, newer))
	for range 100 {
		if err := h.Append(t.Context(), file,
			Past{When: time.Unix(2e9, 0), Code: finding.PortRefused, Finding: &long}); err != nil {
			t.Fatal(err)
		}
	}
	list, err = h.Read(file)
	if past, ok, _ := h.LastGood(file); err != nil || !ok || past.Identity != "another" ||
		list[0].Identity == "the known one" {
		t.Errorf("%+v %v", past, err)
	}
}
