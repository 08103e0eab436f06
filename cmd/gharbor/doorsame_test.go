//go:build unix

package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	engines "gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/standin"
)

// recorder is what answers instead of another server: it counts the connections that send more
// than the opening of an engine, with which other tests look around on this machine.
func recorder(t *testing.T) (address string, got *atomic.Int64) {
	t.Helper()
	got = &atomic.Int64{}
	port := plainServer(t, func(conn net.Conn) {
		sent, _ := io.ReadAll(io.LimitReader(conn, 4096))
		if slices.ContainsFunc(known.Infos(), func(i engines.Info) bool {
			return len(i.Opening) > 0 && bytes.Equal(sent, i.Opening)
		}) {
			return
		}
		if len(sent) > 8 || strings.Contains(string(sent), "warden") {
			got.Add(1)
		}
	})
	return fmt.Sprintf("127.0.0.1:%d", port), got
}

// isRefused tries to log a client in at a door that does not let it in.
func (d opened) isRefused(t *testing.T, engine, user string) error {
	t.Helper()
	if engine == "mongodb" { // its driver tries again until its time is over
		_, err := withTheirsWithin(withPassword(t, d.URI, canary), time.Second)
		return err
	}
	return d.enters(t, engine, user)
}

// enters logs a client in at a door, with its own password.
func (d opened) enters(t *testing.T, engine, user string) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	uri := withPassword(t, d.URI, canary)
	switch engine {
	case "mongodb":
		_, err := withTheirs(uri)
		return err
	case "postgres":
		conn, err := pgconn.Connect(ctx, uri)
		if err == nil {
			_ = conn.Close(ctx)
		}
		return err
	}
	db, err := sql.Open("mysql", driverDSN(t, uri))
	must(t, err)
	defer db.Close()
	return db.PingContext(ctx)
}

// TestADoorChecksAtEveryDial opens doors of every form, with both engines, to what can become
// another thing meanwhile: before the change a client gets in, after it nothing is sent to what
// is there, the client is told in its engine's form, and the door says why; when what was there
// is back, so is the door.
func TestADoorChecksAtEveryDial(t *testing.T) {
	t.Parallel()
	// What a door looks at is the same for each engine; how its client is told is not.
	for engine, forms := range map[string][]string{"postgres": {"", "--door-socket", "--pass-through", "--background"},
		"mysql": {"", "--pass-through"}, "mongodb": {""}} {
		image, inside := map[string]string{"postgres": "postgres:16", "mysql": "mysql:8", "mongodb": "mongo:8"}[engine],
			map[string]int{"postgres": 5432, "mysql": 3306, "mongodb": 27017}[engine]
		for _, form := range forms {
			s := practice(t, standin.Config{Engine: engine})
			w := newWorld(t, "PW="+canary)
			e := practiceEngine(t, w)
			container := func(change func(*standin.Contained), at string) {
				c := standin.Contained{Name: "hutdb", Image: image, Published: map[int][]string{inside: {at}},
					Labels: labels("huts", "db", "/srv/huts"), Command: []string{"serve"}}
				if change != nil {
					change(&c)
				}
				e.Put(c)
			}
			container(nil, s.Address())
			w.must(0, "add", "in/container", "--engine", engine, "--container", "hutdb", "--user", "warden_app",
				"--database", "bunkhouse", "--secret", "env:PW")
			w.write("gharbor/aliases.yaml",
				fmt.Sprintf("bookings: {engine: %s, addresses: ['%s'], tls: {mode: 'off'}}\n", engine, s.Address()))
			w.must(0, "add", "by/alias", "--alias", "bookings", "--user", "warden_app",
				"--database", "bunkhouse", "--secret", "env:PW")
			open := func(name string) opened {
				if form != "--background" {
					d, _, _ := w.open(strings.Fields(name + " " + form)...)
					return d
				}
				var all struct{ Doors []opened }
				must(t, json.Unmarshal([]byte(w.must(0, "hold", name, "--background", "--json").out), &all))
				t.Cleanup(func() { w.run("release", name) })
				return all.Doors[0]
			}
			check := func(name, what, code, says string, change, back func()) {
				t.Helper()
				d := open(name)
				title := fmt.Sprintf("%s %s %s: %s", engine, name, form, what)
				if err := d.enters(t, engine, "warden_app"); err != nil {
					t.Errorf("%s: before: %v", title, err)
				}
				change()
				enters := d.enters
				if code != "" {
					enters = d.isRefused
				}
				if err := enters(t, engine, "warden_app"); code == "" && err != nil ||
					code != "" && (err == nil || !strings.Contains(err.Error(), code)) {
					t.Errorf("%s: after: %v instead of %q", title, err, code)
				}
				shown := w.must(0, "doors", name).out
				if code != "" {
					has(t, shown, "needs-you since", says)
				}
				back()
				if err := d.enters(t, engine, "warden_app"); err != nil {
					t.Errorf("%s: back: %v\n%s", title, err, shown)
				}
				w.must(0, "release", name)
			}
			other, got := recorder(t)
			same := func() { container(nil, s.Address()) }
			for what, change := range map[string]func(*standin.Contained){
				"the container's image": func(c *standin.Contained) {
					c.Image = "stranger.example/" + image
				}, "Compose project": func(c *standin.Contained) {
					c.Labels = labels("others", "db", "/srv/huts")
				},
				"the folder": func(c *standin.Contained) {
					c.Labels = labels("huts", "db",
						"/tmp/huts")
				}, "entrypoint or command": func(c *standin.Contained) {
					c.Command = []string{"other"}
				},
			} {
				check("in/container", what, "container.changed", what, func() { container(change, other) }, same)
			}
			if got.Load() > 0 {
				t.Errorf("%s %s: %d clients went to another container", engine, form, got.Load())
			}
			// A new version of the same, on another port, is the same where its server is.
			relay := plainServer(t, func(conn net.Conn) {
				if server, err := net.Dial("tcp", s.Address()); err == nil {
					go func() { _, _ = io.Copy(server, conn); _ = server.Close() }()
					_, _ = io.Copy(conn, server)
				}
			})
			check("in/container", "another port", "", "", func() {
				container(func(c *standin.Contained) { c.Image = strings.Split(image, ":")[0] + ":99" },
					fmt.Sprintf("127.0.0.1:%d", relay))
			}, same)
			check("by/alias", "its definition", "alias.changed", "definition", func() {
				w.write("gharbor/aliases.yaml",
					fmt.Sprintf("bookings: {engine: %s, addresses: ['%s'], tls: {mode: 'off'}}\n", engine, other))
			}, func() {
				w.write("gharbor/aliases.yaml",
					fmt.Sprintf("bookings: {engine: %s, addresses: ['%s'], tls: {mode: 'off'}}\n", engine,
						s.Address()))
			})
			// Another server takes the address: its identity is asked for by the profile's own
			// login, and no client's goes there.
			first := practice(t, standin.Config{Engine: engine})
			address := first.Address()
			w.wardens("at/host", engine, first)
			d := open("at/host")
			if err := d.enters(t, engine, "warden_app"); err != nil {
				t.Errorf("%s at/host %s: %v", engine, form, err)
			}
			eventually(t, "the client is gone", func() bool {
				return strings.Contains(w.must(0, "doors", "at/host").out, "clients   0")
			})
			first.Close()
			second := practice(t, standin.Config{Engine: engine, Address: address, Identity: 1})
			client := d
			// so that its logins are told from the profile's own
			client.URI = strings.Replace(d.URI, "/bunkhouse", "/of_the_client", 1)
			for range 2 {
				if err := client.isRefused(t, engine, "warden_app"); err == nil ||
					!strings.Contains(err.Error(), "expect.another-server") {
					t.Errorf("%s at/host %s: another server: %v", engine, form, err)
				}
			}
			has(t, w.must(0, "doors", "at/host").out, "needs-you since", "Another server answers")
			if opened := second.Opened(); len(opened) < 2 || slices.Contains(opened, "of_the_client") {
				t.Errorf("%s at/host %s: logins that went to the other server: %q", engine, form, opened)
			}
			w.must(0, "release", "at/host")
			// The same server lets the account do more than it should: what the profile expects
			// is looked at again, by its own login.
			second.Close()
			plain := practice(t, standin.Config{Engine: engine, Address: address})
			w.must(0, "change", "at/host", "--expect", "superuser=false")
			d = open("at/host")
			if err := d.enters(t, engine, "warden_app"); err != nil {
				t.Errorf("%s expecting %s: %v", engine, form, err)
			}
			eventually(t, "the client is gone", func() bool {
				return strings.Contains(w.must(0, "doors", "at/host").out, "clients   0")
			})
			plain.Close()
			mighty := practice(t, standin.Config{Engine: engine, Address: address, Superuser: "warden_app"})
			if err := d.isRefused(t, engine, "warden_app"); err == nil || !strings.Contains(err.Error(), "expect.not-met") {
				t.Errorf("%s expecting %s: %v", engine, form, err)
			}
			has(t, w.must(0, "doors", "at/host").out, "needs-you since", "superuser")
			mighty.Close()
			practice(t, standin.Config{Engine: engine, Address: address})
			if err := d.enters(t, engine, "warden_app"); err != nil {
				t.Errorf("%s expecting %s, back: %v", engine, form, err)
			}
			w.must(0, "release", "at/host")
		}
	}
}
