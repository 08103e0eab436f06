//go:build unix

package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	goora "github.com/sijms/go-ora/v2"

	"gentle-harbor/internal/standin"
)

// nodeOracle is a program as others write them, over a driver for Node that the engine's own
// people made.
const nodeOracle = `const o = require('oracledb'); (async () => { const u = new URL(process.env.DATABASE_URL); const c = await o.getConnection({ user: decodeURIComponent(u.username), password: decodeURIComponent(u.password), connectString: u.host + u.pathname }); const r = await c.execute('select name, height from hut where id = 1'); console.log(r.rows[0].join(' ')); try { await c.execute('select name from hat') } catch (e) { console.log(e.message.split('\n')[0]) } await c.close() })().catch(e => { console.error(String(e)); process.exit(1) })`

// withGoOra asks over the unmodified Go driver that this program does not use
// (docs/architecture.md).
func withGoOra(to string) (string, error) {
	more := "?TIMEOUT=10"
	if strings.Contains(to, "?") {
		more = "&TIMEOUT=10"
	}
	conn, err := goora.NewConnection(to+more, nil)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := conn.OpenWithContext(ctx); err != nil {
		return "", err
	}
	defer conn.Close()
	rows := conn.QueryRowContext(ctx, "select name, height from hut where id = 1", nil)
	var name string
	var height int
	if err := rows.Scan(&name, &height); err != nil {
		return "", err
	}
	_, err = conn.ExecContext(ctx, "select name from hat", nil)
	first, _, _ := strings.Cut(fmt.Sprint(err), "\n")
	return fmt.Sprintf("%s %d\n%s", name, height, first), nil
}

// TestDriversOfOthersAtAListener has two drivers that other people wrote log in to the practice
// listener, unmodified: what it says of the protocol is not only what our own client believes.
// They go straight to it, and through a door that encrypts for them and follows a redirect.
func TestDriversOfOthersAtAListener(t *testing.T) {
	t.Parallel()
	cache, err := os.UserCacheDir()
	must(t, err)
	modules := filepath.Join(cache, "gharbor-tests", "node", "node_modules")
	if _, err := os.Stat(filepath.Join(modules, "oracledb")); err != nil {
		missing(t, "the Node client oracledb")
	}
	node := tool(t, "node")
	const want = "Greystone 812\nORA-00942: the practice data has no table \"hat\""
	ask := func(name, to string) {
		got, err := withGoOra(to)
		if got != want {
			t.Errorf("%s, go-ora: %q, %v", name, got, err)
		}
		cmd := exec.Command(node, "-e", nodeOracle)
		cmd.Env = append(os.Environ(), "NODE_PATH="+modules, "DATABASE_URL="+to)
		out, err := cmd.CombinedOutput()
		if strings.TrimSpace(string(out)) != want {
			t.Errorf("%s, node-oracledb: %q, %v", name, out, err)
		}
	}
	for _, verifier := range []string{"verifier-12c", "verifier-11g", "verifier-11g-old"} {
		s := listener(t, standin.Config{Login: verifier})
		ask(verifier, fmt.Sprintf("oracle://warden_app:%s@%s/%s", url.PathEscape(canary), s.Address(), censusService))
		if _, err := withGoOra(fmt.Sprintf("oracle://warden_app:other@%s/%s", s.Address(),
			censusService)); err == nil || !strings.Contains(err.Error(), "ORA-01017") {
			t.Errorf("%s: a wrong password: %v", verifier, err)
		}
	}
	authority, config := encrypting(t, "127.0.0.1")
	w := newWorld(t, "PW="+canary)
	ca := w.write("ca.pem", string(authority.PEM))
	behind := listener(t, standin.Config{TLS: config})
	first := listener(t, standin.Config{TLS: config, Faults: standin.Faults{Redirect: behind.Address(), Resend: 1}})
	p := w.save("p", "oracle", "--host", "127.0.0.1", "--port", fmt.Sprint(first.Port()),
		"--service", censusService, "--user", "warden_app", "--secret", "env:PW", "--tls", "verify", "--tls-ca", ca)
	d, _, _ := w.open(p, "--expect", "encrypted=true")
	ask("through a door", withPassword(t, d.URI, canary))
}
