//go:build unix

package main

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// TestBenchScale does the same with one, with a hundred and with ten thousand of a thing: a
// hundred times as many may take 1.3 times a hundred times as long.
func TestBenchScale(t *testing.T) {
	measured(t)
	server := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{AskNothing: true}})
	type measured struct {
		took time.Duration
		peak int64
	}
	furnished := func(n int) *world {
		w := newWorld(t)
		var entries, unsafe, aliases strings.Builder
		entries.WriteString("# gentle-harbor credentials 1\n")
		unsafe.WriteString("# gentle-harbor credentials 1\n")
		for i := range n {
			fmt.Fprintf(&entries, "at db%d.fellside.example:5432\n  warden_app: pw%d\n", i, i)
			fmt.Fprintf(&unsafe, "at db%d.fellside.example:5432 tls off\n  warden_app: pw%d\n", i, i)
			fmt.Fprintf(&aliases, "a%d:\n  engine: postgres\n  addresses: [db%d.fellside.example:5432]\n", i, i)
			w.write(fmt.Sprintf("gharbor/profiles/g/p%d.yaml", i),
				fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\nsecret: none\n",
					server.Port()))
		}
		w.write("entries", entries.String())
		w.write("gharbor/credentials", unsafe.String())
		w.write("gharbor/aliases.yaml", aliases.String())
		w.write("phrase", phrase+"\n")
		return w
	}
	works := []struct {
		name string
		do   func(w *world, turn int) result
	}{
		{"`wallet import` of entries", func(w *world, turn int) result {
			wallet := filepath.Join(w.home, fmt.Sprint("wallet", turn))
			w.must(0, "wallet", "create", "--wallet", wallet, "--passphrase-file", w.home+"/phrase")
			return w.must(0, "wallet", "import", w.home+"/entries", "--wallet", wallet, "--passphrase-file", w.home+"/phrase")
		}},
		{"`alias check` of aliases", func(w *world, _ int) result { return w.must(0, "alias", "check") }},
		{"`audit` of as many profiles and lines of credentials", func(w *world, _ int) result { return w.must(0, "audit") }},
		{"`test --all` of profiles", func(w *world, _ int) result { return w.must(0, "test", "--all") }},
		{"`test --all --json` of profiles", func(w *world, _ int) result { return w.must(0, "test", "--all", "--json") }},
		{"`list` of profiles that were tested", func(w *world, _ int) result { return w.must(0, "list") }},
	}
	times := map[string]map[int]measured{}
	for _, n := range []int{1, 100, 10_000} {
		w := furnished(n)
		for _, each := range works {
			var all []time.Duration
			var peak int64
			turns := 5
			if n == 10_000 {
				turns = 3
			}
			for turn := range turns {
				r := each.do(w, turn)
				all, peak = append(all, r.took), max(peak, r.peak)
			}
			slices.Sort(all)
			if times[each.name] == nil {
				times[each.name] = map[int]measured{}
			}
			times[each.name][n] = measured{all[len(all)/2], peak}
		}
	}
	fmt.Println("| work | 100 | 10,000 | a hundred times as long, times | memory |\n|---|---|---|---|---|")
	for _, each := range works {
		one, hundred, many := times[each.name][1], times[each.name][100], times[each.name][10_000]
		// What one takes is the start. A hundred take so little more that a busy machine decides:
		// a millisecond each is granted.
		r := float64(many.took-one.took) / float64(100*max(hundred.took-one.took, 100*time.Microsecond*10))
		fmt.Printf("| %s | %.1f ms | %.0f ms | %.2f | %d MB |\n", each.name,
			float64(hundred.took.Microseconds())/1000, float64(many.took.Microseconds())/1000, r, many.peak>>20)
		if r > 1.3 {
			t.Errorf("%s: %.2f times a hundred times as long", each.name, r)
		}
	}
}
