//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/standin"
)

func TestExpectationsOnRealServers(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	p := w.save("p", "postgres", pg.warden()...)
	m := w.save("m", "mariadb", maria.warden()...)
	owner := w.save("owner", "postgres", "--socket", pg.socket, "--user", "overseer", "--database", "bunkhouse")
	for _, statement := range []string{"create table if not exists public.ledger (a int)",
		"create schema if not exists hidden", "create table if not exists hidden.stock (a int)",
		"create table if not exists public.shelf (a int)", "alter table public.shelf owner to warden_app"} {
		w.must(0, "run", owner, statement)
	}
	for _, c := range []struct {
		name   string
		expect string
		code   string // "" when it holds
	}{
		{p, "superuser=false", ""}, {p, "superuser=true", "expect.not-met"}, {owner, "superuser=true", ""},
		{p, "server=>= 9.6", ""}, {p, "server=< 9", "expect.not-met"}, {p, "encrypted=false", ""},
		{p, "encrypted=true", "expect.not-met"},
		{p, "user=warden_app", ""}, {p, "user=reader", "expect.not-met"}, {p, "read-only=false", ""},
		{p, "latency=5s", ""}, {p, "latency=1ns", "expect.not-met"},
		{p, "databases=bunkhouse,postgres", ""}, {p, "databases=none", "expect.cannot-see"},
		{p, "tables=shelf", ""}, {p, "tables=public.ledger", ""}, {p, "tables=none", "expect.cannot-see"},
		{p, "can=select on shelf,delete on shelf", ""}, {p, "can=select on ledger", "expect.not-met"},
		{p, "cannot=select on ledger", ""},
		{p, "can=select on hidden.stock", "expect.cannot-see"}, {p, "can=select on none", "expect.cannot-see"},
		{p, "identity=other", "expect.not-met"},
		{p, "tables='; drop table shelf; --", "expect.cannot-see"},
		{m, "superuser=false", ""}, {m, "server=>= 10", ""}, {m, "user=warden_app@127.0.0.1", ""},
		{m, "tables=hut", ""}, {m, "tables=bunkhouse.hut", ""}, {m, "tables=none", "expect.cannot-see"},
		{m, "can=select on hut", ""}, {m, "can=select on mysql.user", "expect.not-met"},
		{m, "cannot=delete on mysql.user", ""}, {m, "databases=private", "expect.cannot-see"},
	} {
		r := w.report(c.name, "--expect", c.expect)
		if string(r.Code()) != c.code || r.OK != (c.code == "") || c.code != "" && r.Exit != 8 || len(r.Expect) == 0 {
			t.Errorf("%s --expect %s: %s, exit %d, %+v", c.name, c.expect, r.Code(), r.Exit, r.Expect)
		}
	}
	for _, wrong := range []string{"superuser=maybe", "server=new", "colour=red", "can=fly on hut", "latency=x",
		"superuser"} {
		w.must(2, "test", p, "--expect", wrong)
	}
	for _, name := range []string{p, m} {
		has(t, w.must(0, "expect", name).out, "expect.superuser: false", "expect.server: >= ")
		has(t, w.must(0, "test", name).out, "all 6 expectations are met", "ok      superuser: false")
	}
	w.must(0, "change", p, "--expect", "can=select on ledger", "--unset", "expect.identity")
	has(t, w.must(8, "test", p).out, "FAILED  expect", "the user cannot select on ledger, and should be able to")
	w.write("gharbor/profiles/bad.yaml", "engine: mysql\nuser: a\nexpect:\n  can: [fly on hut]\n")
	has(t, w.must(3, "show", "bad").err, "bad.yaml:4")
}

func TestManyAndReports(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	good := practice(t, standin.Config{Engine: "postgres"})
	locked := practice(t, standin.Config{Engine: "mysql", Faults: standin.Faults{Locked: true}})
	for i := range 3 {
		w.must(0, "add", fmt.Sprintf("huts/good%d", i),
			fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", good.Port()), "--secret", "env:PW",
			"--label", fmt.Sprintf("n=%d", i))
		w.must(0, "add", fmt.Sprintf("huts/locked%d", i),
			fmt.Sprintf("mysql://warden_app@127.0.0.1:%d", locked.Port()), "--secret", "env:PW")
	}
	w.must(0, "add", "other/gone", "mysql://a@127.0.0.1:1", "--secret", "none", "--label", "n=0")
	w.write("gharbor/profiles/other/broken.yaml", "engine: none\n")

	r := w.must(6, "test", "huts/")
	has(t, r.out, "3 profiles: The account warden_app is locked", "huts/locked0, huts/locked1, huts/locked2",
		"6 profiles: 3 connected, 3 failed")
	has(t, w.must(0, "test", "huts/good0", "huts/good1").out, "2 profiles: 2 connected")
	r = w.must(1, "test", "--all")
	has(t, r.out, "8 profiles: 3 connected, 5 failed", "other/broken", "not an engine")
	has(t, w.must(5, "test", "--labelled", "n=0").out, "huts/good0", "other/gone", "2 profiles: 1 connected")
	w.must(3, "test", "--labelled", "n=9")
	w.must(3, "test", "none/")

	var all struct{ Profiles []checkup.Report }
	r = w.must(1, "test", "--all", "--as", "json", "--to", "report.json")
	text, err := os.ReadFile(filepath.Join(w.home, "report.json"))
	if err != nil || json.Unmarshal(text, &all) != nil || len(all.Profiles) != 8 ||
		all.Profiles[0].Profile != "huts/good0" || r.out != "" {
		t.Errorf("%v %d %q", err, len(all.Profiles), r.out)
	}
	// The forms of reports are in the tests of internal/report, and read by other programs here.
	has(t, w.must(0, "test", "huts/good0", "--repeat", "5").out, "tested 5 times, 0 failed", "95th percentile", "login")
	has(t, w.must(6, "test", "huts/locked0", "--repeat", "3").out, "3 failed", "login.locked")
	w.must(2, "test", "huts/good0", "--as", "xml")
	w.must(2, "test", "huts/", "--repeat", "3")
	p := w.sit("test", "huts/")
	p.Reads("of 6 tested")
	p.Reads("FAILED  huts/locked0")
	p.Reads("6 profiles: 3 connected, 3 failed")
	if code, _ := p.Ends(); code != 6 {
		t.Errorf("exit %d", code)
	}
}

// TestSilenceIsShared has forty profiles of one silent address, four at a time.
func TestSilenceIsShared(t *testing.T) {
	w := newWorld(t)
	port := silentPort(t)
	for i := range 40 {
		w.write(fmt.Sprintf("gharbor/profiles/g/p%d.yaml", i),
			fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: a\nsecret: none\ntimeout: 700ms\n", port))
	}
	has(t, w.must(5, "test", "g/", "--parallel", "4").out, "40 profiles: 127.0.0.1:", "40 failed")
	var all struct{ Profiles []checkup.Report }
	must(t, json.Unmarshal([]byte(w.must(5, "test", "g/", "--parallel", "4", "--json").out), &all))
	waited := 0
	for _, each := range all.Profiles {
		for _, leg := range each.Legs {
			if leg.Name == "port" && leg.MS > 600 {
				waited++
			}
		}
	}
	if len(all.Profiles) != 40 || waited < 1 || waited > 8 { // those that were at it when the first knew
		t.Errorf("%d of %d waited", waited, len(all.Profiles))
	}
}

func TestHistory(t *testing.T) {
	first := practice(t, standin.Config{Engine: "mysql", Login: "mysql_native_password"})
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", fmt.Sprintf("mysql://warden_app@127.0.0.1:%d/bunkhouse", first.Port()), "--secret", "env:PW")
	has(t, w.must(0, "history", "p").out, "never tested")
	w.must(0, "test", "p")
	w.must(0, "test", "p")
	w.must(0, "change", "p", "--database", "none")
	f := w.fails("database.missing", "p")
	has(t, strings.Join(f.Seen, "\n"), "since the last good test", "database was bunkhouse, and is none")
	r := w.must(0, "history", "p")
	has(t, r.out, "3 tests remembered", "database.missing", "database was bunkhouse, and is none", "×")
	var history struct {
		Tests   []checkup.Past
		Changed []string
	}
	if err := json.Unmarshal([]byte(w.must(0, "history", "p", "--json").out), &history); err != nil ||
		len(history.Tests) != 3 || len(history.Changed) != 1 || history.Tests[2].Code != "database.missing" {
		t.Errorf("%v %+v", err, history)
	}
	has(t, w.must(0, "list").out, "last test", "database.missing, ")
}

func TestHistoryIsBounded(t *testing.T) {
	h := checkup.History{Dir: t.TempDir()}
	past := checkup.Past{When: time.Now(), OK: true, Settings: map[string]string{"host": strings.Repeat("x", 2000)}}
	for i := range 400 {
		past.MS = float64(i)
		must(t, h.Append(t.Context(), "p", past))
	}
	list, err := h.Read("p")
	if err != nil || len(list) < 50 || len(list) > 140 || list[len(list)-1].MS != 399 {
		t.Errorf("%d, %v", len(list), err)
	}
}

func TestAwait(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	free := freePort(t)
	w.must(0, "add", "p", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", free), "--secret", "env:PW")
	time.AfterFunc(700*time.Millisecond, func() {
		s, err := standin.Start(standin.Config{Engine: "postgres", Address: fmt.Sprintf("127.0.0.1:%d", free),
			Accounts: map[string]string{"warden_app": canary}})
		if err == nil {
			t.Cleanup(s.Close)
		}
	})
	r := w.must(0, "await", "p", "--for", "10s", "--every", "100ms")
	if r.took > 8*time.Second || strings.Count(r.err, "port.refused") != 1 || strings.Count(r.err, "p: ok") != 1 {
		t.Errorf("%s\n%s", r.took, r.err)
	}
	has(t, r.out, "You are in")
	if !regexp.MustCompile(`p passed after \d+ tests?\n`).MatchString(r.err) {
		t.Errorf("%s", r.err)
	}
	w.must(0, "add", "gone", "mysql://a@127.0.0.1:1", "--secret", "none")
	if r := w.must(5, "await", "gone", "--for", "600ms", "--every", "100ms"); r.took > 8*time.Second ||
		!regexp.MustCompile(`gone ended after \d+ tests?: the time was over \(--for 600ms\), and the last one failed with port.refused\n`).MatchString(r.err) {
		t.Errorf("%s %s", r.took, r.err)
	}
	p := w.sit("await", "gone", "--for", "60s", "--every", "100ms")
	p.Reads("gone: port.refused")
	p.Types("\x03")
	if code, took := p.Ends(); code != 130 || took > 8*time.Second {
		t.Errorf("exit %d after %s", code, took)
	}
}
