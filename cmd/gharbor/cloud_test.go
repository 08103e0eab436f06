//go:build unix

package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// clouded is a world with a practice cloud, an account for it, and a wallet that jobs may read.
type clouded struct {
	*world
	cloud      *standin.Cloud
	passphrase string
}

// newClouded starts a cloud with a practice server behind it, that takes temporary logins.
func newClouded(t *testing.T, change ...func(*standin.CloudConfig)) *clouded {
	t.Helper()
	authority, err := standin.NewAuthority("Fellside cloud test authority")
	must(t, err)
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour),
		"bunkhouse.cloud.fellside.example")
	must(t, err)
	s, replica := practice(t, standin.Config{Engine: "postgres", TLS: encryption}), practice(t,
		standin.Config{Engine: "postgres", TLS: encryption, Replica: true})
	ledger := practice(t, standin.Config{Engine: "mariadb", TLS: encryption})
	n := 0
	var mu sync.Mutex
	config := standin.CloudConfig{Who: "keeper@fellside.example", Mark: canary, Servers: []standin.CloudServer{
		{ID: "srv-1", Name: "bunkhouse", Engine: "postgres", Version: "16", Region: "north",
			ProviderName: "fellside:north:bunkhouse", Behind: s.Address(), Authority: string(authority.PEM),
			CertificateName: "bunkhouse.cloud.fellside.example",
			Databases:       []string{"bunkhouse", "postgres"},
			Replicas:        []standin.CloudReplica{{Name: "reports", Region: "south", Behind: replica.Address()}},
			Login: func(user, _ string) (string, string, error) {
				mu.Lock()
				defer mu.Unlock()
				if n++; user == "" {
					user = fmt.Sprint("guest_", n)
				}
				password := fmt.Sprint(canary, "-", n)
				s.Let(user, password)
				replica.Let(user, password)
				return user, password, nil
			}},
		{ID: "srv-2", Name: "ledger", Engine: "mariadb", Version: "11", Region: "north",
			Behind: ledger.Address(), Authority: string(authority.PEM),
			CertificateName: "bunkhouse.cloud.fellside.example"},
		{ID: "srv-3", Name: "inner", Engine: "postgres", Public: "none", Private: "10.20.0.6:5432"},
		{ID: "srv-4", Name: "twin", Engine: "postgres", Behind: s.Address()},
		{ID: "srv-5", Name: "twin", Engine: "postgres", Behind: s.Address()},
	}}
	for _, each := range change {
		each(&config)
	}
	c, err := standin.StartCloud(config)
	must(t, err)
	t.Cleanup(c.Close)
	w := &clouded{world: newWorld(t), cloud: c}
	w.environ[2] = "PATH=" + filepath.Dir(gharbor) + ":" + os.Getenv("PATH")
	w.passphrase = w.write("phrase", phrase+"\n")
	from := keyedWallet(t)
	must(t, os.MkdirAll(filepath.Join(w.home, "gharbor/wallet"), 0o700))
	entries, err := os.ReadDir(from)
	must(t, err)
	for _, entry := range entries {
		data, err := os.ReadFile(filepath.Join(from, entry.Name()))
		must(t, err)
		w.write(filepath.Join("gharbor/wallet", entry.Name()), string(data))
	}
	w.must(0, "cloud", "add", "fellside", c.URL())
	return w
}

var keyedMu sync.Mutex

// keyedWallet gives the folder of a wallet that jobs may read, with a key for sign-ins of the
// account fellside at any port of this machine. It is made once: each opening with the passphrase
// takes a second.
func keyedWallet(t *testing.T) string {
	t.Helper()
	keyedMu.Lock()
	defer keyedMu.Unlock()
	folder := filepath.Join(realFolder, "keyed-wallet")
	if _, err := os.Stat(folder); err == nil {
		return folder
	}
	w := newWorld(t)
	pp := w.withWallet("")
	key, err := cloud.NewKey()
	must(t, err)
	for _, host := range []string{"127.0.0.1", "localhost"} {
		w.must(0, "wallet", "add", "--server", "cloud-key:"+host, "--user", "fellside",
			"--secret-file", w.write("key", key.Reveal()), "--passphrase-file", pp)
	}
	w.unattended(pp)
	must(t, os.CopyFS(folder, os.DirFS(filepath.Join(w.home, "gharbor/wallet"))))
	return folder
}

// confirming presses the page's button for whoever signs in, until the test ends.
func (w *clouded) confirming() {
	done := make(chan bool)
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(50 * time.Millisecond):
				w.cloud.Confirm(true)
			}
		}
	}()
	w.Cleanup(func() { close(done) })
}

func (w *clouded) signIn() {
	w.Helper()
	w.must(0, "cloud", "sign-in", "--passphrase-file", w.passphrase)
}

// follow runs a finding's remedy, the first one that has a text in it, as a shell takes it, with
// more flags.
func (w *clouded) follow(f *finding.Finding, with string, more ...string) result {
	w.Helper()
	for _, line := range tries(f) {
		if at := strings.Index(line, "gharbor "); at >= 0 && strings.Contains(line, with) {
			cmd := exec.Command("sh", "-c", line[at:]+" "+strings.Join(more, " "))
			cmd.Dir, cmd.Env = w.home, w.environ
			return w.finish(cmd)
		}
	}
	w.Errorf("%s: no remedy has %q: %q", f.Code, with, tries(f))
	return result{}
}

// clean refuses any of the cloud's tokens, codes of devices and passwords in texts.
func (w *clouded) clean(texts ...string) {
	w.Helper()
	for _, text := range texts {
		if strings.Contains(text, canary) || strings.Contains(text, "AGE-SECRET-KEY") {
			w.Errorf("a secret of the cloud is shown:\n%s", strings.ReplaceAll(text, canary, "CANARY"))
		}
	}
}

var userCode = regexp.MustCompile(`\b[B-Z]{4}-[B-Z]{4}\b`)

// TestCloudWholeWay goes the whole way with a real server behind a practice cloud, as a person
// does: the sign-in at a terminal with the page in a real browser, the list, a profile, the test,
// being let in, the service that is off, two programs at the same time, and the sign-out.
func TestCloudWholeWay(t *testing.T) {
	t.Parallel()
	s := realPostgres(t)
	ca, err := os.ReadFile(s.ca)
	must(t, err)
	n := 0
	w := newClouded(t, func(config *standin.CloudConfig) {
		config.Delay, config.Service = 1200*time.Millisecond, "database rooms"
		config.Servers = []standin.CloudServer{{ID: "srv-real", Name: "bunkhouse", Engine: "postgres",
			Region: "north", Behind: fmt.Sprintf("127.0.0.1:%d", s.port), Authority: string(ca),
			CertificateName: "db.fellside.example", Databases: []string{"bunkhouse"},
			Login: func(string, string) (string, string, error) {
				conn, err := pgx.Connect(context.Background(),
					fmt.Sprintf("host=%s port=%d user=overseer dbname=postgres", filepath.Dir(s.socket), s.port))
				if err != nil {
					return "", "", err
				}
				defer conn.Close(context.Background())
				n++
				user, password := fmt.Sprint("guest_", n), fmt.Sprint(canary, "-", n)
				_, err = conn.Exec(context.Background(),
					fmt.Sprintf("create role %s login in role guest password '%s' valid until '%s'", user,
						password, time.Now().Add(time.Hour).Format(time.RFC3339)))
				return user, password, err
			}}}
	})
	// A wallet as a person makes one: the sign-in puts its key there.
	must(t, os.RemoveAll(filepath.Join(w.home, "gharbor/wallet")))
	w.withWallet("")
	w.unattended(w.passphrase)
	b := realtest.NewBrowser(t)
	stop := watchIn(w.home)
	p := w.sitAt(120, "cloud", "sign-in", "fellside")
	p.Answers("Passphrase", phrase)
	p.Reads("Open this page in a browser")
	p.Reads("Compare this code with the one in the browser")
	p.Reads("█")
	p.Reads("The code ends at")
	p.Reads("waiting for the confirmation")
	code := userCode.FindString(p.Screen())
	// The page by hand: the code is typed, and is the same as the terminal's; Enter on the button
	// that has the focus confirms.
	b.Goes(w.cloud.URL() + "/device")
	b.Types("", strings.ToLower(code)+realtest.Enter)
	if got := b.Text(".code"); got != code {
		t.Errorf("the page shows %s, and the terminal %s", got, code)
	}
	b.Shows("Compare this code with the one in your terminal.", "keeper@fellside.example")
	for _, columns := range []int{1280, 500} {
		if page, window := b.Wide(columns); page > window {
			t.Errorf("at %d, the page is %d wide", window, page)
		}
		b.Picture(fmt.Sprint("page-", columns))
	}
	b.Types("", realtest.Tab+realtest.Enter) // deny comes after confirm; this goes on to it and back
	b.Shows("Denied")
	if code, _ := p.Ends(); code != 4 {
		t.Errorf("denied: exit %d\n%s", code, p.Screen())
	}
	p2 := w.sitAt(100, "cloud", "sign-in")
	p2.Reads("waiting for the confirmation")
	b.Goes(w.cloud.URL() + "/device?code=" + userCode.FindString(p2.Screen()))
	b.Types("", realtest.Enter)
	b.Shows("Confirmed")
	p2.Reads("Signed in to fellside as keeper@fellside.example")
	if code, _ := p2.Ends(); code != 0 {
		t.Errorf("confirmed: exit %d", code)
	}
	screens := p.Screen() + p2.Screen()

	// The service is off; await goes on after the click.
	off := w.must(5, "cloud", "servers")
	has(t, off.err, "cloud.service-off", "database rooms", w.cloud.URL()+"/services")
	w.must(0, "add", "huts/live", "--engine", "postgres", "--cloud", "fellside/bunkhouse",
		"--database", "bunkhouse", "--secret", "cloud", "--timeout", "1s")
	f := w.fails("cloud.service-off", "huts/live")
	other := w.cloud.Admit("srv-real", "127.0.0.0/8", nil, false)
	waiting := w.command("await", "huts/live", "--for", "40s")
	var said noted
	waiting.Stdout, waiting.Stderr = &said, &said
	must(t, waiting.Start())
	eventually(t, "await meets the cloud", func() bool { return strings.Contains(said.String(), "cloud.service-off") })
	b.Goes(w.cloud.URL() + "/services")
	b.Types("", realtest.Enter)
	b.Shows("The service is on")
	b.Wide(1280)
	if err := waiting.Wait(); err != nil {
		t.Errorf("await does not go on: %v\n%s", err, said.String())
	}
	w.cloud.Withdraw(other)
	has(t, strings.Join(tries(f), "\n"), "gharbor await huts/live")

	list := w.must(0, "cloud", "servers")
	has(t, list.out, "bunkhouse", "postgres", "running", "north", "public 127.0.0.1:")
	has(t, w.must(0, "cloud", "show", "bunkhouse").out, "srv-real", "db.fellside.example", "nothing at all")

	// Not let in, let in, in.
	f = w.fails("cloud.not-admitted", "huts/live")
	has(t, f.Cause, "127.0.0.1")
	has(t, strings.Join(f.Seen, "\n"), "nothing at all")
	in := w.follow(f, "cloud admit", "--yes")
	if in.code != 0 {
		t.Fatalf("admit: %d\n%s%s", in.code, in.out, in.err)
	}
	has(t, in.out, "127.0.0.1/32", "the server greets")
	if in.took < 1200*time.Millisecond {
		t.Errorf("the cloud takes 1.2 seconds, and admit was done after %s", in.took)
	}
	r := w.report("huts/live")
	if !r.OK || r.Server == nil || !strings.HasPrefix(r.Server.Account, "guest_") ||
		r.Server.Superuser == nil || *r.Server.Superuser || !r.Server.Encrypted {
		t.Errorf("%+v %+v", r.Finding, r.Server)
	}
	if legs := fmt.Sprint(r.Legs[0].Name, r.Legs[1].Name, r.Legs[2].Name); legs != "settingscloudsecret" {
		t.Error(legs)
	}
	ran := w.must(0, "run", "huts/live", "select current_user")
	has(t, ran.out, "guest_")
	valued := w.must(0, "run", "huts/live", "select {{v}} as v; select current_user", "--let", "v='; --", "--json")
	has(t, valued.out, `["'; --"]`, "guest_")
	// A door, and a program with the temporary login.
	with := w.must(0, "with", "huts/live", "--", "sh", "-c", `printf '%s %s\n' "$GHARBOR_DOOR_USER" "${#DATABASE_URL}"`)
	has(t, with.out, "guest_")
	exported := w.must(0, "export", "huts/live", "--as", "uri")
	has(t, exported.out, "postgres://db.fellside.example:", "hostaddr=127.0.0.1", "sslmode=verify-full", "sslrootcert=")
	// What is exported gets in by itself: a login of your own at the address and by the authority
	// that the cloud said.
	own := w.write("own", canary)
	w.must(0, "run", strings.TrimSpace(exported.out), "select 1", "--user", "warden_app", "--secret-file", own)
	must(t, os.Remove(own))

	// Two programs at the same time, each with a token that holds no more.
	w.cloud.EndAccess()
	var group sync.WaitGroup
	for range 2 {
		group.Go(func() { w.must(0, "cloud", "servers", "--json") })
	}
	group.Wait()
	if !w.cloud.Signed() {
		t.Error("the cloud saw a token twice")
	}
	admissions := w.must(0, "cloud", "admissions")
	has(t, admissions.out, "fellside/bunkhouse", "127.0.0.1/32")
	status := w.must(0, "cloud", "status", "--json")
	has(t, status.out, `"signed_in": true`, "keeper@fellside.example", `"caller": "127.0.0.1"`)
	id := regexp.MustCompile(`adm-\d+`).FindString(admissions.out)
	has(t, w.must(2, "cloud", "withdraw", id).err, "--yes")
	withdrawn := w.must(0, "cloud", "withdraw", id, "--yes")
	has(t, withdrawn.out, "127.0.0.1/32")
	w.fails("cloud.not-admitted", "huts/live")
	out := w.must(0, "cloud", "sign-out")
	has(t, out.out, "Signed out of fellside")
	if w.cloud.Signed() {
		t.Error("the cloud still takes the sign-in")
	}
	w.fails("cloud.signed-out", "huts/live")
	w.clean(screens, list.out+list.err, in.out+in.err, ran.out+ran.err, with.out+with.err,
		exported.out+exported.err, admissions.out, status.out, withdrawn.out, out.out+out.err)
	// The program that was given the login had it in its environment, as it should; nothing else did.
	looks, found := stop()
	if looks < 20 {
		t.Errorf("the processes were looked at %d times", looks)
	}
	for _, line := range found {
		if !strings.Contains(line, "environ") || !strings.Contains(line, "DATABASE_URL=") {
			t.Errorf("a process shows it: %s", line)
		}
	}
	w.nothingKept()
}

// nothingKept looks for tokens and temporary passwords in all files of the world.
func (w *clouded) nothingKept() {
	w.Helper()
	must(w.T, filepath.WalkDir(w.home, func(path string, entry os.DirEntry, err error) error {
		// which is the wallet's own key
		if err != nil || entry.IsDir() || !entry.Type().IsRegular() || filepath.Base(path) == "phrase" ||
			filepath.Base(path) == "unattended" {
			return err
		}
		data, err := os.ReadFile(path)
		if err == nil && (strings.Contains(string(data), canary) || strings.Contains(string(data), "AGE-SECRET-KEY")) {
			w.Errorf("%s holds a secret of the cloud", path)
		}
		return err
	}))
}

// TestCloudFindings meets each finding of the leg "cloud", and follows its remedies.
func TestCloudFindings(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	c := w.cloud
	w.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse",
		"--secret", "cloud", "--timeout", "1s")
	passes := func(what string, args ...string) {
		t.Helper()
		if r := w.report(args...); !r.OK {
			t.Errorf("%s: %+v", what, r.Finding)
		}
	}
	done := func(what string, r result) {
		t.Helper()
		w.clean(r.out, r.err)
		if r.code != 0 {
			t.Errorf("%s: exit %d\n%s%s", what, r.code, r.out, r.err)
		}
	}
	f := w.fails("cloud.signed-out", "live")
	done("signed out", w.follow(f, "sign-in", "--passphrase-file", w.passphrase))
	c.Admit("srv-1", "127.0.0.0/8", nil, false)
	c.Admit("srv-2", "127.0.0.0/8", nil, false)
	c.Admit("srv-4", "127.0.0.0/8", nil, false)
	passes("signed in", "live")

	c.EndSessions()
	f = w.fails("cloud.expired", "live")
	done("expired", w.follow(f, "sign-in", "--passphrase-file", w.passphrase))
	passes("signed in anew", "live")

	w.must(0, "wallet", "unattended", "off", "--passphrase-file", w.passphrase, "--yes")
	f = w.fails("cloud.key-missing", "live")
	done("the key", w.follow(f, "unattended on", "--passphrase-file", w.passphrase, "--yes"))
	passes("with the key", "live")

	has(t, w.run("test", "live", "--cloud", "felside/bunkhouse").out, "cloud.account-unknown", "did you mean fellside?")
	f = w.fails("cloud.account-unknown", "live", "--cloud", "felside/bunkhouse")
	done("an unknown account", w.follow(f, "status"))

	f = w.fails("cloud.server-unknown", "live", "--cloud", "fellside/bunkhose")
	done("a near name", w.follow(f, "--cloud"))
	f = w.fails("cloud.several", "live", "--cloud", "fellside/twin")
	has(t, strings.Join(tries(f), "\n"), "--cloud fellside/srv-4")
	f = w.fails("cloud.replica-unknown", "live", "--cloud", "{account: fellside, server: bunkhouse, replica: report}")
	done("a near copy", w.follow(f, "--cloud"))
	f = w.fails("cloud.other-engine", "live", "--cloud", "fellside/ledger")
	w.stdin = ""
	if r := w.follow(f, "--engine mariadb", "--secret", "ask", "--user", "warden_app",
		"--secret-file", w.write("pw", canary)); r.code != 0 {
		t.Errorf("another engine: %d %s", r.code, strings.ReplaceAll(r.out+r.err, canary, "CANARY"))
	}
	f = w.fails("cloud.no-private", "live", "--cloud", "{account: fellside, server: bunkhouse, address: private}")
	done("the public address", w.follow(f, "--cloud"))
	w.must(0, "add", "behind", "--engine", "postgres", "--host", "10.20.0.9", "--user", "u", "--secret", "none",
		"--via", "ops@gate.fellside.example")
	f = w.fails("cloud.private-only", "live", "--cloud", "fellside/inner")
	has(t, strings.Join(tries(f), "\n"), "Your profile behind has a hop",
		"--via ops@gate.fellside.example", "address: private")

	for state, code := range map[string]string{"starting": "cloud.starting", "stopped": "cloud.stopped",
		"repairing": "cloud.stopped"} {
		c.Change("srv-1", func(s *standin.CloudServer) { s.State = state })
		f = w.fails(code, "live")
		has(t, f.Cause, state)
		if !strings.Contains(strings.Join(tries(f), "\n"), "gharbor await live") {
			t.Errorf("%s: %q", state, tries(f))
		}
		time.AfterFunc(1500*time.Millisecond, func() {
			c.Change("srv-1", func(s *standin.CloudServer) { s.State = "running" })
		})
		done("waiting for "+state, w.follow(f, "await"))
	}
	// The other ways in which a cloud can fail are in the tests of internal/cloud.
	c.Misbehave(standin.CloudFaults{Status: 403, Words: "the keeper says no", Echo: true})
	r := w.run("test", "live")
	w.clean(r.out, r.err)
	has(t, r.out, "cloud.refused", "the keeper says no")
	c.Misbehave(standin.CloudFaults{Status: 429, Retry: "2"})
	f = w.fails("cloud.rate-limited", "live")
	said := regexp.MustCompile(`\d\d:\d\d:\d\d`).FindString(f.Cause)
	at, err := time.ParseInLocation("2006-01-02 15:04:05", time.Now().Format("2006-01-02 ")+said, time.Local)
	if wait := time.Until(at); err != nil || wait > 3*time.Second || wait < -2*time.Second {
		t.Errorf("try again at %q, in %s", said, wait)
	}
	c.Misbehave(standin.CloudFaults{})
	passes("at that time", "live")
	c.Misbehave(standin.CloudFaults{Status: 502})
	f = w.fails("cloud.down", "live")
	time.AfterFunc(1500*time.Millisecond, func() { c.Misbehave(standin.CloudFaults{}) })
	done("until it answers", w.follow(f, "await"))
	c.Misbehave(standin.CloudFaults{Status: 403})
	f = w.fails("cloud.refused", "live")
	c.Misbehave(standin.CloudFaults{})
	done("who is signed in", w.follow(f, "status"))
	passes("after all that", "live")

	// What a cloud on another machine may not name is in the tests of internal/cloud; this one is
	// on this machine, and may.
	c.Close()
	f = w.fails("cloud.unreachable", "live")
	done("unreachable", w.follow(f, "status"))
	w.write("gharbor/clouds/fellside.yaml", "url: "+c.URL()+"\nca: "+w.home+"/none.pem\n")
	f = w.fails("cloud.account-broken", "live")
	has(t, f.Cause, "none.pem")
}

// TestCloudNotAdmittedByFamily has a server at an IPv6 address: what counts is the address that
// the cloud sees over IPv6.
func TestCloudNotAdmittedByFamily(t *testing.T) {
	t.Parallel()
	w := newClouded(t, func(c *standin.CloudConfig) {
		c.Host, c.Also = "localhost", []string{"[::1]:0"}
		c.Servers[0].Public = "[::1]:0"
	})
	w.confirming()
	w.signIn()
	w.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse",
		"--secret", "cloud", "--timeout", "1s")
	w.cloud.Admit("srv-1", "127.0.0.0/8", nil, true)
	f := w.fails("cloud.not-admitted", "live")
	has(t, f.Cause, "the cloud sees it as ::1")
	has(t, strings.Join(f.Seen, "\n"), "127.0.0.0/8")
	if r := w.follow(f, "cloud admit", "--yes"); r.code != 0 || !strings.Contains(r.out, "::1/128") {
		t.Errorf("%d %s%s", r.code, r.out, r.err)
	}
	if r := w.report("live"); !r.OK {
		t.Errorf("%+v", r.Finding)
	}
	// What is left over: one without an end, one that is wide, one for another address.
	w.cloud.Admit("srv-1", "203.0.113.9/32", nil, true)
	status := w.must(0, "cloud", "status")
	has(t, status.err, "it has no end", "it lets in more than one address",
		"it is not for this machine's address now", "gharbor cloud withdraw adm-")
	audit := w.run("audit")
	has(t, audit.out, "is let in: it has no end", "203.0.113.9/32", "gharbor cloud withdraw")
	// The cloud enforces the end.
	until := time.Now().Add(-time.Second)
	w.cloud.Admit("srv-1", "127.0.0.1/32", &until, true)
	if text := w.must(0, "cloud", "admissions").out; strings.Contains(text, "127.0.0.1/32") {
		t.Errorf("one that has ended is listed:\n%s", text)
	}
}

// TestCloudAdmitAsks has a person asked before anything is let in, and shows what is wrong with
// flags.
func TestCloudAdmitAsks(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	w.signIn()
	w.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse",
		"--secret", "cloud", "--timeout", "1s")
	has(t, w.must(2, "cloud", "admit", "live").err, "--yes")
	if n := len(w.cloud.Admissions()); n != 0 {
		t.Errorf("%d let in unasked", n)
	}
	p := w.sit("cloud", "admit", "live", "--for", "30m")
	p.Reads("fellside/bunkhouse will let in 127.0.0.1 (this machine, as the cloud sees it), until ")
	p.Answers("Let it in?", "n")
	p.Reads("Nothing was let in.")
	p.Ends()
	p = w.sit("cloud", "admit", "live", "--without-end")
	p.Reads("without an end")
	p.Answers("Let it in?", "y")
	p.Reads("the server greets")
	if code, _ := p.Ends(); code != 0 {
		t.Error(code)
	}
	if list := w.cloud.Admissions(); len(list) != 1 || list[0].Until != nil ||
		list[0].Range != netip.MustParsePrefix("127.0.0.1/32") {
		t.Errorf("%+v", list)
	}
	has(t, w.must(0, "cloud", "admit", "live", "--yes").out, "already")
	for _, args := range [][]string{{"--for", "1s"}, {"--range", "203.0.113.7/28"}, {"--range", "x"},
		{"--note", "a\x1bb"}, {"--patience", "0s"}} {
		if r := w.must(2, append([]string{"cloud", "admit", "live", "--yes"},
			args...)...); !strings.Contains(r.err, args[0]) {
			t.Errorf("%v: %s", args, r.err)
		}
	}
	wide := w.must(0, "cloud", "admit", "fellside/bunkhouse", "--range", "203.0.113.0/28", "--for", "1h",
		"--note", "office", "--yes")
	has(t, wide.err, "more than one address", "is not in that range")
	has(t, wide.out, "203.0.113.0/28")
	has(t, w.must(0, "cloud", "admissions").out, "office", "it lets in more than one address")
	has(t, w.must(3, "cloud", "withdraw", "adm-99", "--yes").err, "adm-99")
	has(t, w.must(2, "cloud", "admit", "live", "more").err, "takes no")
	slow := newClouded(t, func(c *standin.CloudConfig) { c.Delay = time.Minute })
	slow.confirming()
	slow.signIn()
	slow.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse",
		"--database", "bunkhouse", "--secret", "cloud")
	if r := slow.run("cloud", "admit", "live", "--yes", "--patience", "2s"); r.code != 5 ||
		!strings.Contains(r.err, "has not finished within 2s") {
		t.Errorf("%d %s", r.code, r.err)
	}
}

// TestCloudSignInEnds has a sign-in end in each way.
func TestCloudSignInEnds(t *testing.T) {
	t.Parallel()
	w := newClouded(t, func(c *standin.CloudConfig) { c.Code = 2 * time.Second })
	r := w.must(4, "cloud", "sign-in", "--passphrase-file", w.passphrase)
	has(t, r.err, "nobody confirmed the code in time")
	w.clean(r.out, r.err)
	w2 := newClouded(t)
	w2.cloud.Misbehave(standin.CloudFaults{Drop: 1})
	w2.confirming()
	r = w2.must(0, "cloud", "sign-in", "--passphrase-file", w2.passphrase)
	has(t, r.err, "cannot be reached", "It is asked again at")
	// --open is the only way in which a browser is started.
	opened := filepath.Join(w2.home, "opened")
	bin := filepath.Dir(w2.write("bin/xdg-open", "#!/bin/sh\nprintf '%s\\n' \"$@\" >> "+opened+"\n"))
	must(t, os.Chmod(filepath.Join(bin, "xdg-open"), 0o700))
	w2.environ[2] = "PATH=" + bin + ":" + os.Getenv("PATH")
	w2.signIn()
	if _, err := os.Stat(opened); err == nil {
		t.Error("a browser is opened unasked")
	}
	w2.must(0, "cloud", "sign-in", "--open")
	data, err := os.ReadFile(opened)
	if err != nil || !strings.HasPrefix(string(data), w2.cloud.URL()+"/device?code=") {
		t.Errorf("%v %s", err, data)
	}
	// Without a wallet and a keyring there is no place for the key, which is said before anybody
	// confirms anything.
	must(t, os.RemoveAll(filepath.Join(w2.home, "gharbor/wallet")))
	n := len(w2.cloud.Issued())
	has(t, w2.must(2, "cloud", "sign-in").err, "wallet create")
	if len(w2.cloud.Issued()) != n {
		t.Error("a code was asked for")
	}
}

// TestCloudAccounts makes accounts, and refuses what is none.
func TestCloudAccounts(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	has(t, w.must(2, "cloud", "add", "../x", w.cloud.URL()).err, "letters, digits")
	has(t, w.must(3, "cloud", "add", "fellside", w.cloud.URL()).err, "--replace")
	w.must(0, "cloud", "add", "fellside", w.cloud.URL(), "--replace")
	w.must(0, "cloud", "add", "hills", w.cloud.URL())
	has(t, w.must(2, "cloud", "servers").err, "several cloud accounts (fellside, hills)")
	has(t, w.must(3, "cloud", "servers", "hils").err, "did you mean hills?")
	has(t, w.must(2, "cloud", "remove", "hills").err, "--yes")
	w.must(0, "cloud", "remove", "hills", "--yes")
	if _, err := os.Stat(filepath.Join(w.home, "gharbor/clouds/hills.yaml")); !os.IsNotExist(err) {
		t.Error("its file is still there")
	}
	// An account that others can write to is not used.
	file := filepath.Join(w.home, "gharbor/clouds/fellside.yaml")
	must(t, os.Chmod(file, 0o666))
	has(t, w.must(3, "cloud", "servers").err, "chmod")
	must(t, os.Chmod(file, 0o600))
	// A sign-in is for the cloud that gave it: an account that leads elsewhere now does not take
	// it there.
	w.confirming()
	w.signIn()
	other := newClouded(t)
	w.write("gharbor/clouds/fellside.yaml", "url: "+other.cloud.URL()+"\n")
	has(t, w.must(4, "cloud", "servers").err, "cloud.signed-out", "the sign-in that is stored is for "+w.cloud.URL())
	if asked := strings.Join(other.cloud.Asked(), " "); strings.Contains(asked, "/v1/") ||
		strings.Contains(asked, "/token") {
		t.Errorf("the other cloud was asked: %s", asked)
	}
}

// TestCloudSecrets keeps a password for a cloud's server: it is for the server, under any name of
// the account, and for no other.
func TestCloudSecrets(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	w.signIn()
	c := w.cloud
	for _, id := range []string{"srv-1", "srv-4"} {
		c.Admit(id, "127.0.0.0/8", nil, false)
	}
	generated := w.write("generated.txt", canary+"\n")
	w.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse",
		"--user", "warden_app")
	kept := w.must(0, "test", "live", "--secret-file", generated, "--store", "wallet", "--passphrase-file", w.passphrase)
	has(t, kept.err, "generated.txt still has the password in clear")
	w.clean(kept.out, kept.err)
	has(t, w.must(0, "wallet", "list").out, "cloud:srv-1@127.0.0.1:")
	if r := w.report("live"); !r.OK {
		t.Fatalf("%+v", r.Finding)
	}
	has(t, w.must(0, "wallet", "list").out, "cloud fellside")
	// By its id, under another name of the account, and at its copy.
	w.must(0, "cloud", "add", "nick", c.URL())
	w.must(0, "cloud", "sign-in", "nick", "--passphrase-file", w.passphrase)
	for _, server := range []string{"fellside/srv-1", "nick/bunkhouse",
		"{account: nick, server: srv-1, replica: reports}"} {
		if r := w.report("live", "--cloud", server); !r.OK {
			t.Errorf("%s: %+v", server, r.Finding)
		}
	}
	// Another server, that has taken the name: its id is another.
	c.Change("srv-1", func(s *standin.CloudServer) { s.Name = "old" })
	c.Change("srv-4", func(s *standin.CloudServer) { s.Name = "bunkhouse" })
	f := w.fails("secret.bound-elsewhere", "live", "--secret", "wallet")
	has(t, strings.Join(f.Seen, "\n")+f.Cause, "cloud:srv-1@", "cloud:srv-4@")
	c.Change("srv-4", func(s *standin.CloudServer) { s.Name = "twin" })
	c.Change("srv-1", func(s *standin.CloudServer) { s.Name = "bunkhouse" })
	// The user that a wallet has for the server is the profile's.
	w.must(0, "change", "live", "--unset", "user")
	if r := w.report("live"); !r.OK || r.Server.User != "warden_app" {
		t.Errorf("%+v", r.Finding)
	}
	// Encryption is the cloud's to say.
	has(t, w.must(3, "test", "live", "--tls", "off", "--user", "u").out, "always verified")
	// A server without temporary logins.
	f = w.fails("secret.cloud-has-none", "live", "--cloud", "fellside/srv-4", "--secret", "cloud")
	has(t, f.Cause, "permanent keys only")
	has(t, w.run("test", "postgres://u@127.0.0.1:1/d", "--secret", "cloud").out, "secret.cloud-has-none")
	w.must(0, "cloud", "remove", "nick", "--yes")
	w.must(0, "wallet", "remove", "--server", "cloud-key:"+strings.TrimPrefix(c.URL(), "http://"),
		"--user", "nick", "--passphrase-file", w.passphrase, "--yes")
	if text := w.must(0, "wallet", "list").out; strings.Contains(text, "nick") {
		t.Errorf("the key is still there:\n%s", text)
	}
	w.must(0, "wallet", "add", "--server", "cloud:srv-9@"+strings.TrimPrefix(c.URL(), "http://"), "--user", "x",
		"--secret-file", generated, "--passphrase-file", w.passphrase)
}

// TestCloudOfAProject has a cloned project name a cloud's server: nothing is asked before the
// user has agreed, and agreeing shows the cloud's URL.
func TestCloudOfAProject(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	w.signIn()
	w.cloud.Admit("srv-1", "127.0.0.0/8", nil, false)
	w.write(".gentle-harbor/profiles/live.yaml",
		"engine: postgres\ncloud: fellside/bunkhouse\ndatabase: bunkhouse\nsecret: cloud\n")
	n := len(w.cloud.Asked())
	w.fails("settings.not-agreed", "live")
	w.must(3, "cloud", "admit", "live", "--yes")
	if len(w.cloud.Asked()) != n {
		t.Error("the cloud was asked before anybody agreed")
	}
	has(t, w.must(0, "agree", "live", "--yes").err+w.run("agree", "live").out, w.cloud.URL())
	if r := w.report("live"); !r.OK {
		t.Errorf("%+v", r.Finding)
	}
	// The account leads elsewhere now: that is to be agreed to again.
	other := newClouded(t)
	w.must(0, "cloud", "add", "fellside", other.cloud.URL(), "--replace")
	w.fails("settings.not-agreed", "live")
}

// TestAddFromClouds chooses everything from lists at a terminal.
func TestAddFromClouds(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	has(t, w.must(2, "add", "huts/live", "--cloud").err, "gharbor cloud servers")
	has(t, w.must(2, "add", "--cloud", "huts/live").err, "gharbor add huts/live --cloud")
	w.signIn()
	w.cloud.Admit("srv-1", "127.0.0.0/8", nil, false)
	p := w.sit("add", "huts/live", "--cloud")
	p.Reads("Cloud accounts: fellside")
	p.Reads("bunkhouse  postgres 16  running  north")
	p.Answers("Which one (1 to 5) [1] ", "bunkhouse")
	p.Reads("reports  a replica to read from")
	p.Answers("Which one (1 to 2) [1] ", "2")
	p.Answers("Which one (1 to 2) [1] ", "")
	p.Reads("a temporary login")
	p.Answers("Which login (1 to 2) [1] ", "")
	p.Reads("You are in")
	p.Reads("Saved huts/live")
	if code, _ := p.Ends(); code != 0 {
		t.Errorf("exit %d\n%s", code, p.Screen())
	}
	data, err := os.ReadFile(filepath.Join(w.home, "gharbor/profiles/huts/live.yaml"))
	must(t, err)
	has(t, string(data), "{account: fellside, server: bunkhouse, replica: reports}", "database: bunkhouse",
		"secret: cloud")
	if strings.Contains(string(data), "user:") {
		t.Errorf("a user is in it:\n%s", data)
	}
}

// TestImportConnectionName takes in what a provider's page shows.
func TestImportConnectionName(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	page := "Instance connection name: fellside:north:bunkhouse\nPublic IP address: 203.0.113.40\nDatabase: " +
		"bunkhouse\nUser: warden_app\nPassword: (hidden)\n"
	file := w.write("page.txt", page)
	r := w.must(0, "import", "before", file, "--engine", "postgres")
	has(t, r.err, "connection name fellside:north:bunkhouse was left out")
	has(t, w.must(0, "show", "before").out, "203.0.113.40")
	bare := w.write("bare.txt", "Connection name: fellside:north:bunkhouse\nDatabase: bunkhouse\n")
	has(t, w.must(3, "import", "bare", bare, "--engine", "postgres").err, "gharbor cloud sign-in")
	w.signIn()
	r = w.must(0, "import", "live", file)
	has(t, r.err, "is the server fellside/bunkhouse")
	data, err := os.ReadFile(filepath.Join(w.home, "gharbor/profiles/live.yaml"))
	must(t, err)
	has(t, string(data), "engine: postgres", "cloud: fellside/bunkhouse", "user: warden_app")
	if strings.Contains(string(data), "203.0.113.40") {
		t.Errorf("the address is still in it:\n%s", data)
	}
	w.must(0, "add", "pairs", "host=203.0.113.40 port=5432 dbname=bunkhouse user=warden_app "+
		"connection_name=fellside:north:bunkhouse connect_timeout=3 application_name=huts",
		"--engine", "postgres")
	has(t, w.must(0, "show", "pairs").out, "fellside/bunkhouse")
}

// TestCloudKeyInAKeyring keeps the key of a sign-in in the desktop's keyring, where there is no
// wallet.
func TestCloudKeyInAKeyring(t *testing.T) {
	address := desktop(t)
	w := newClouded(t)
	w.confirming()
	must(t, os.RemoveAll(filepath.Join(w.home, "gharbor/wallet")))
	w.environ = append(w.environ, "DBUS_SESSION_BUS_ADDRESS="+address)
	r := w.must(0, "cloud", "sign-in", "--store", "keyring")
	has(t, r.err, "the desktop's keyring")
	w.cloud.EndAccess()
	has(t, w.must(0, "cloud", "servers").out, "bunkhouse")
	w.environ = w.environ[:len(w.environ)-1]
	has(t, w.must(4, "cloud", "servers").err, "cloud.key-missing")
}

// TestCloudJob has a job refresh a sign-in that may only read the wallet: the new token is kept,
// and the wallet is as it was. One process takes one temporary login for all of its tests.
func TestCloudJob(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	w.signIn()
	w.cloud.Admit("srv-1", "127.0.0.0/8", nil, false)
	w.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse",
		"--secret", "cloud")
	sealed, state := filepath.Join(w.home, "gharbor/wallet/sealed"), filepath.Join(w.home,
		"gharbor/state/clouds/fellside.json")
	read := func(path string) string {
		data, err := os.ReadFile(path)
		must(t, err)
		return string(data)
	}
	before, token := read(sealed), read(state)
	must(t, os.Chmod(filepath.Join(w.home, "gharbor/wallet"), 0o500))
	for range 3 {
		w.cloud.EndAccess()
		w.must(0, "test", "live")
	}
	must(t, os.Chmod(filepath.Join(w.home, "gharbor/wallet"), 0o700))
	if read(sealed) != before {
		t.Error("the wallet was written")
	}
	if read(state) == token || !w.cloud.Signed() {
		t.Error("the new token was not kept")
	}
	count := func() (n int) {
		for _, line := range w.cloud.Asked() {
			if line == "POST /v1/servers/srv-1/logins" {
				n++
			}
		}
		return n
	}
	n := count()
	w.must(0, "test", "live", "--repeat", "5")
	if made := count() - n; made != 1 {
		t.Errorf("%d logins for five tests of one process", made)
	}
	w.clean(read(state))
}

// TestCloudThroughAHop reaches a private address through a jump host: the cloud is asked from
// here, and the server from there.
func TestCloudThroughAHop(t *testing.T) {
	h := newHopped(t, nil)
	s := realPostgres(t)
	ca, err := os.ReadFile(s.ca)
	must(t, err)
	w := newClouded(t, func(c *standin.CloudConfig) {
		c.Servers = []standin.CloudServer{{ID: "srv-in", Name: "inner", Engine: "postgres", Public: "none",
			Private: fmt.Sprintf("127.0.0.1:%d", s.port), Authority: string(ca),
			CertificateName: "db.fellside.example"}}
	})
	w.confirming()
	w.signIn()
	h.environ = append(h.environ, "PW="+canary)
	must(t, os.CopyFS(filepath.Join(h.home, "gharbor/clouds"), os.DirFS(filepath.Join(w.home, "gharbor/clouds"))))
	must(t, os.CopyFS(filepath.Join(h.home, "gharbor/state/clouds"),
		os.DirFS(filepath.Join(w.home, "gharbor/state/clouds"))))
	must(t, os.CopyFS(filepath.Join(h.home, "gharbor/wallet"), os.DirFS(filepath.Join(w.home, "gharbor/wallet"))))
	must(t, filepath.WalkDir(filepath.Join(h.home, "gharbor"), func(path string, entry os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chmod(path, map[bool]os.FileMode{true: 0o700, false: 0o600}[entry.IsDir()])
	}))
	// Another profile goes through the hop; the finding says so, and what it says to try gets in.
	h.must(0, "add", "other", "--engine", "postgres", "--host", "127.0.0.9", "--via", h.via, "--user", "u",
		"--secret", "none")
	h.must(0, "add", "lost", "--engine", "postgres", "--cloud", "fellside/inner", "--database", "bunkhouse",
		"--user", "warden_app", "--secret", "env:PW")
	h.environ = append(h.environ, "PATH="+filepath.Dir(gharbor)+":"+os.Getenv("PATH"))
	f := h.fails("cloud.private-only", "lost")
	if r := (&clouded{world: h.world}).follow(f, "--via"); r.code != 0 {
		t.Errorf("through the hop of other: %d\n%s%s", r.code, r.out, r.err)
	}
	h.must(0, "add", "inner", "--engine", "postgres",
		"--cloud", "{account: fellside, server: inner, address: private}", "--via", h.via,
		"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:PW")
	r := h.report("inner")
	if !r.OK {
		t.Fatalf("%+v", r.Finding)
	}
	var names []string
	for _, leg := range r.Legs {
		names = append(names, leg.Name)
	}
	has(t, strings.Join(names, " "), "settings cloud secret tunnel name port")
}

// TestCloudSilentPort has the system drop what comes to the server's port, as a firewall does:
// the cloud says why, or that it is not the reason.
func TestCloudSilentPort(t *testing.T) {
	t.Parallel()
	w := newClouded(t)
	w.confirming()
	w.signIn()
	w.must(0, "add", "live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse",
		"--secret", "cloud", "--timeout", "500ms")
	w.cloud.Misbehave(standin.CloudFaults{Address: fmt.Sprintf("127.0.0.1:%d", silentPort(t))})
	f := w.fails("cloud.not-admitted", "live")
	has(t, strings.Join(f.Seen, "\n"), "at the server itself: no answer within 500ms")
	w.cloud.Admit("srv-1", "127.0.0.0/8", nil, false)
	f = w.fails("port.silent", "live")
	has(t, strings.Join(f.Seen, "\n"), "the cloud sees this machine as 127.0.0.1, and lets it in (127.0.0.0/8)")
}

// TestCloudByTLS has a cloud that an authority of its own certifies: it is not asked before that
// authority is named, and then all goes the usual way.
func TestCloudByTLS(t *testing.T) {
	t.Parallel()
	authority, front := encrypting(t, "localhost")
	secure, err := standin.StartCloud(standin.CloudConfig{Host: "localhost", TLS: front,
		Who: "keeper@fellside.example", Mark: canary})
	must(t, err)
	t.Cleanup(secure.Close)
	w := newClouded(t)
	has(t, w.must(5, "cloud", "add", "secure", secure.URL()).err, "cloud.not-trusted", "--ca FILE")
	if asked := secure.Asked(); len(asked) > 0 {
		t.Errorf("it was asked: %v", asked)
	}
	ca := w.write("front.pem", string(authority.PEM))
	w.must(0, "cloud", "add", "fellside", secure.URL(), "--ca", ca, "--replace")
	go func() {
		for range 200 {
			time.Sleep(50 * time.Millisecond)
			secure.Confirm(true)
		}
	}()
	has(t, w.must(0, "cloud", "sign-in").out, "keeper@fellside.example")
	must(t, os.Remove(ca))
	w.write("front.pem", "none")
	has(t, w.must(3, "cloud", "servers").err, "front.pem", "no certificate in PEM form")
}
