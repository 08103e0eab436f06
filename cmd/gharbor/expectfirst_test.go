//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/standin"
)

// TestExpectationsComeFirst has profiles on real servers expect what is not so: nothing is done
// by any command that opens a session, not by the statements of on-open either; and what holds is
// no hindrance.
func TestExpectationsComeFirst(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	for _, each := range []struct {
		engine, count string
		at            []string
	}{
		{"postgres", "select count(*) from information_schema.tables where table_name like 'mark%'",
			realPostgres(t).at("127.0.0.1")},
		{"mariadb", "select count(*) from information_schema.tables where table_name like 'mark%'",
			realMariaDB(t).at("127.0.0.1")},
	} {
		p := w.save(each.engine, each.engine,
			append(each.at, "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")...)
		none := func(after string) {
			t.Helper()
			if r := w.must(0, "run", p, each.count, "--as", "csv"); strings.Fields(r.out)[1] != "0" {
				t.Errorf("%s: %s did something:\n%s", each.engine, after, r.out)
			}
		}
		for _, unmet := range [][]string{{"--expect", "identity=another"}, {"--expect", "superuser=true"},
			{"--expect", "server=>= 99"}, {"--expect", "tables=no_such_table"}, {"--expect", "user=nobody"}} {
			opens := append([]string{"--on-open", "create table mark1 (n int)"}, unmet...)
			r := w.must(8, append([]string{"run", p, "create table mark2 (n int)"}, opens...)...)
			has(t, r.err, "expect.", strings.SplitN(unmet[1], "=", 2)[0])
			w.must(8, append([]string{"run", p, "create table mark2 (n int)", "--json"}, opens...)...)
			w.must(8, append([]string{"survey", p, "databases"}, opens...)...)
			w.must(8, append([]string{"test", p}, opens...)...)
			w.must(8, append(append([]string{"with", p}, opens...), "--", "touch", "mark3")...)
			w.must(8, append([]string{"hold", p}, opens...)...)
			none(strings.Join(unmet, " "))
		}
		// What holds is no hindrance, and the time of a round trip counts in a test alone.
		w.must(0, "run", p, "select 1", "--expect", "user="+accountOf(w, p), "--expect", "superuser=false",
			"--expect", "encrypted=false")
		w.must(0, "run", p, "select 1", "--expect", "latency=1ns")
		w.must(8, "test", p, "--expect", "latency=1ns")
		// On-open comes after the expectations, and one that fails belongs to the leg database.
		for _, args := range [][]string{{"run", p, "create table mark2 (n int)"}, {"test", p}, {"survey", p, "databases"}} {
			r := w.must(7, append(args, "--on-open", "selec 1", "--expect", "superuser=false")...)
			has(t, r.out+r.err, "database.on-open", "selec 1")
		}
		none("an on-open that fails")
		r := w.report(p, "--on-open", "selec 1", "--expect", "superuser=false")
		for _, leg := range r.Legs {
			switch want := map[string]string{"login": "true", "database": "false"}[leg.Name]; {
			case want == "true" && (leg.OK == nil || !*leg.OK), want == "false" && (leg.OK == nil || *leg.OK),
				(leg.Name == "query" || leg.Name == "expect") && leg.OK != nil:
				t.Errorf("%s: the leg %s: %+v", each.engine, leg.Name, leg)
			}
		}
		// What this program looks at by itself expects nothing, and runs nothing.
		if each.engine == "postgres" {
			has(t, w.must(7, "run", p, "select 1", "--database", "bunkhous", "--expect", "superuser=true",
				"--on-open", "create table mark5 (n int)").err, "database.missing",
				"A database of a near name is there")
		}
		w.must(0, "run", p, "select 1", "--on-open", "create table mark4 (n int)", "--expect", "superuser=false")
		w.must(0, "run", p, "drop table mark4")
	}
}

func accountOf(w *world, p string) string { return w.report(p).Server.Account }

// TestAnotherServerIsSaid has another server take a profile's address: a test says so, and so
// does a run; one that was met before at another address of the profile's alias is no surprise.
func TestAnotherServerIsSaid(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	pg := realPostgres(t)
	p := w.save("p", "postgres", pg.warden()...)
	w.must(0, "test", p)
	if r := w.must(0, "run", p, "select 1"); strings.Contains(r.err, "another server") {
		t.Errorf("%s", r.err)
	}
	was := w.report(p).Server.Identity
	files, err := filepath.Glob(filepath.Join(w.home, "gharbor/state/history/*.jsonl"))
	must(t, err)
	other := func() {
		t.Helper()
		for _, file := range files {
			data, err := os.ReadFile(file)
			must(t, err)
			must(t, os.WriteFile(file, bytes.ReplaceAll(data, []byte(was), []byte("7000000000000000001")), 0o600))
		}
	}
	for _, args := range [][]string{{"run", p, "select 1"}, {"survey", p, "databases"},
		{"with", p, "--", "true"}, {"await", p, "--for", "20s"}, {"test", p}} {
		other()
		r := w.must(0, args...)
		has(t, r.out+r.err, "This is another server than at the last good test", "7000000000000000001", was)
	}
	// One that fails says so too, where the server still shows who it is, and once.
	m := w.save("m", "mariadb", append(realMariaDB(t).at("127.0.0.1"), "--user", "warden_app",
		"--database", "bunkhouse", "--secret", "env:PW")...)
	w.must(0, "test", m)
	wasM := w.report(m).Server.Identity
	files, err = filepath.Glob(filepath.Join(w.home, "gharbor/state/history/*.jsonl"))
	must(t, err)
	for _, args := range [][]string{{"test"}, {"run"}, {"await"}} {
		for _, name := range []string{p, m} {
			for _, wrong := range [][]string{{"--database", "bunkhaus"}, {"--expect", "tables=nowhere"}} {
				other()
				for _, file := range files {
					data, err := os.ReadFile(file)
					must(t, err)
					must(t, os.WriteFile(file, bytes.ReplaceAll(data, []byte(wasM), []byte("7000000000000000001")), 0o600))
				}
				all := append(append(slices.Clone(args), name), wrong...)
				switch args[0] {
				case "run":
					all = append(all, "select 1")
				case "await":
					all = append(all, "--for", "1s")
				}
				r := w.run(all...)
				if r.code == 0 || strings.Count(r.out+r.err, "This is another server than at the last good test") != 1 {
					t.Errorf("%v: exit %d\n%s%s", all, r.code, r.out, r.err)
				}
			}
		}
	}
}

// TestWhatIsRemembered waits for a server, and tests it with other settings for one run: the test
// that passed is in the history, and what flags changed is not the profile's last result.
func TestWhatIsRemembered(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.wardens("p", "postgres", s)
	state := func() string {
		t.Helper()
		var all struct {
			Profiles []struct{ Last *harbor.LastTest }
		}
		must(t, json.Unmarshal([]byte(w.must(0, "list", "--json").out), &all))
		if len(all.Profiles) != 1 || all.Profiles[0].Last == nil {
			return "none"
		}
		return fmt.Sprint(all.Profiles[0].Last.OK)
	}
	w.must(5, "test", "p", "--port", "1")
	if got := state(); got != "none" {
		t.Errorf("a run with another port is the profile's last result: %s", got)
	}
	w.must(0, "await", "p", "--for", "10s")
	if got := state(); got != "true" {
		t.Errorf("a passed await is not remembered: %s", got)
	}
	w.must(5, "test", "p", "--port", "1")
	w.must(5, "await", "p", "--for", "1s", "--port", "1")
	if got := state(); got != "true" {
		t.Errorf("a run with another port is the profile's last result: %s", got)
	}
	s.Close()
	w.must(5, "test", "p")
	if got := state(); got != "false" {
		t.Errorf("a failed test is not the last result: %s", got)
	}
}
