//go:build unix

package main

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// TestAGiantRow runs statements of real servers whose answer is one row that is larger than it
// may be, and the same with more allowed.
func TestAGiantRow(t *testing.T) {
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	owner := "mysql://root@" + strings.ReplaceAll(maria.socket, "/", "%2F")
	w.must(0, "run", owner, "set global max_allowed_packet = 1073741824")
	for _, p := range []string{
		w.save("pg", "postgres", pg.warden()...),
		w.save("maria", "mariadb", maria.warden()...),
	} {
		const statement = "select repeat('x', 70000000) as large"
		for _, as := range []string{"csv", "json", "table"} {
			r := w.must(7, "run", p, statement, "--as", as)
			has(t, r.out+r.err, "query.too-large", "larger than 64MB")
			if r.peak > 400<<20 {
				t.Errorf("%s, %s: %d MB of memory", p, as, r.peak>>20)
			}
		}
		if r := w.must(0, "run", p, statement, "--as", "csv",
			"--largest", "80mb"); len(strings.TrimSpace(r.out)) != len("large\n")+70_000_000 {
			t.Errorf("%s: %d bytes came", p, len(r.out))
		}
		// Many rows are not one row.
		r := w.must(0, "run", p, "select repeat('x', 100000) from (values (1), (2), (3)) v", "--as", "csv",
			"--largest", "1MB")
		if len(r.out) < 300_000 {
			t.Errorf("%s: %d bytes came", p, len(r.out))
		}
		has(t, w.must(7, "run", p, "select repeat('x', 100000)", "--as", "csv", "--largest", "64KB").err, "larger than 64KB")
		has(t, w.must(7, "run", p, "select repeat('x', 100)", "--as", "csv", "--largest", "10").err, "larger than 10 bytes")
	}
	if r := w.must(7, "run", "pg", "select repeat('x', 70000000)"); !strings.Contains(r.err, "--largest 67MB") {
		t.Errorf("%s", r.err)
	}
	for _, wrong := range []string{"0", "-1", "2GB", "much", "1TB", "99999999999999999999GB", ""} {
		has(t, w.must(2, "run", "pg", "select 1", "--largest", wrong).err, "--largest takes a size up to 1GB")
	}
}

// nested gives a text n times around another one.
func nested(open, shut string, n int) string {
	return strings.Repeat(open, n) + strings.Repeat(shut, n)
}

// bombs are texts for each reader that are as large as it reads, and made to become more. Each
// runs the program in a world of its own.
var bombs = []struct {
	about string
	make  func(w *world)
	args  []string
}{
	{"a profile of deep lists", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\noptions: "+nested("[", "]", 100_000))
	}, []string{"show", "p"}},
	{"a profile of deep maps", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\noptions: "+nested("{a: ", "}", 50_000))
	}, []string{"show", "p"}},
	{"a profile of many keys", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\nhost: h\nlabels: {"+strings.Repeat("a: b, ", 40_000)+"}")
	}, []string{"show", "p"}},
	{"a profile of many hops", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\nhost: h\nvia: ["+strings.Repeat("h,", 100_000)+"h]")
	}, []string{"show", "p"}},
	{"a profile of anchors", func(w *world) {
		w.write("gharbor/profiles/p.yaml",
			"a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\n")
	}, []string{"list"}},
	{"a group of many keys", func(w *world) {
		w.write("gharbor/profiles/group.yaml", "labels: {"+strings.Repeat("a: b, ", 40_000)+"}")
		w.write("gharbor/profiles/p.yaml", "engine: postgres\nhost: h\n")
	}, []string{"show", "p"}},
	{"a file of aliases that is deep", func(w *world) {
		w.write("gharbor/aliases.yaml", "a: "+nested("[", "]", 500_000))
	}, []string{"alias", "check"}},
	{"a file of many aliases", func(w *world) {
		w.write("gharbor/aliases.yaml", strings.Repeat("a: {}\n", 170_000))
	}, []string{"alias", "list"}},
	{"an alias of many addresses", func(w *world) {
		w.write("gharbor/aliases.yaml", "a: {engine: postgres, addresses: ["+strings.Repeat("h,", 500_000)+"h]}\n")
	}, []string{"alias", "list"}},
	{"aliases as JSON", func(w *world) {
		w.write("a.json", `{"aliases_version":1,"aliases":{"a":[`+strings.Repeat("{},", 80_000)+`{}]}}`)
	}, []string{"alias", "import", "a.json"}},
	{"credentials of short lines", func(w *world) {
		w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat h\n"+strings.Repeat(" a: b\n", 200_000))
	}, []string{"credentials", "check"}},
	{"credentials of blocks", func(w *world) {
		w.write("gharbor/credentials", "# gentle-harbor credentials 1\n"+strings.Repeat("at h\n", 300_000))
	}, []string{"credentials", "check"}},
	{"a line of credentials", func(w *world) {
		w.write("gharbor/credentials", "# gentle-harbor credentials 1\nat h\n a: "+strings.Repeat("x", 8<<20))
	}, []string{"credentials", "check"}},
	{"a wallet of nothing", func(w *world) {
		w.write("gharbor/wallet/sealed",
			"gentle-harbor wallet sealed 1 "+strings.Repeat("0", 32)+" 1\n"+strings.Repeat("\x00", 27<<20))
		w.write("gharbor/wallet/owner", strings.Repeat("x", 16<<10))
		w.write("phrase", "x\n")
	}, []string{"wallet", "check", "--passphrase-file", "phrase"}},
	{"a history of deep lines", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\nhost: h\nuser: u\n")
		w.history("p", strings.Repeat(`{"when":"2026-11-01T10:00:00Z","legs":`+nested("[", "]", 9_000)+"}\n", 25))
	}, []string{"history", "p"}},
	{"a history of many settings", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\nhost: h\nuser: u\n")
		var settings strings.Builder
		for i := range 40_000 {
			fmt.Fprintf(&settings, `"%d":"",`, i)
		}
		w.history("p", `{"when":"2026-11-01T10:00:00Z","settings":{`+settings.String()+`"a":""}}`+"\n")
	}, []string{"history", "p"}},
	{"records of doors", func(w *world) {
		w.write("gharbor/state/doors/1-x.ask", "")
		w.write("gharbor/state/doors/1-x.json", "["+strings.Repeat("{},", 340_000)+"{}]")
	}, []string{"doors"}},
	{"agreements", func(w *world) {
		w.write("gharbor/state/agreements.json",
			"["+strings.Repeat("{},", 1_300_000)+"{}]")
	}, []string{"agree", "--list"}},
	{"a configuration of SSH that includes itself", func(w *world) {
		w.write(".ssh/config", strings.Repeat("Include config\n", 60_000))
	}, []string{"test", "postgres://u@h/d", "--via", "127.0.0.1:1", "--secret", "none"}},
	{"a configuration of many hosts", func(w *world) {
		w.write(".ssh/config", strings.Repeat("Host * !a ?b\n", 70_000))
	}, []string{"test", "postgres://u@h/d", "--via", "127.0.0.1:1", "--secret", "none"}},
	{"a line of patterns", func(w *world) {
		w.write(".ssh/config", "Host "+strings.Repeat("*a*a*a*a*a*b ", 70_000)+"\n")
	}, []string{"test", "postgres://u@h/d", "--via", strings.Repeat("a", 60) + ".invalid", "--secret", "none"}},
	{"a profile of a container as a map", func(w *world) {
		w.write("gharbor/profiles/p.yaml", "engine: postgres\ncontainer: "+nested("{name: ", "}", 30_000))
	}, []string{"show", "p"}},
	{"a Compose file of aliases", func(w *world) {
		text := "a0: &a0 [x,x,x,x,x,x,x,x,x]\n"
		for i := 1; i < 9; i++ {
			text += fmt.Sprintf("a%d: &a%d [%s*a%d]\n", i, i, strings.Repeat(fmt.Sprintf("*a%d,", i-1), 8), i-1)
		}
		w.write("compose.yaml", text+"services: {db: {image: postgres, environment: *a8}}\n")
	}, []string{"find"}},
	{"a Compose file of depth", func(w *world) {
		w.write("compose.yaml", "services: {db: "+nested("[", "]", 400_000)+"}")
	}, []string{"find"}},
	{"a Compose file of services", func(w *world) {
		w.write("compose.yaml", "services: {"+strings.Repeat("a: {}, ", 140_000)+"}")
	}, []string{"find"}},
	{"a Compose file of many keys", func(w *world) {
		w.write("compose.yaml", "services: {db: {image: postgres, environment: {"+strings.Repeat("a: b, ", 160_000)+"}}}")
	}, []string{"find"}},
	{"a nested default", func(w *world) {
		w.write("compose.yaml", "services: {db: {image: postgres, environment: {A: '"+nested("${A:-", "}", 3000)+"'}}}")
	}, []string{"find"}},
	{"480 bytes of .env", func(w *world) {
		text := "V0=" + strings.Repeat("x", 60) + "\n"
		for i := 1; i < 14; i++ {
			text += fmt.Sprintf("V%d=%s\n", i, strings.Repeat(fmt.Sprintf("$V%d", i-1), 8))
		}
		w.write("compose.yaml", "services: {db: {image: postgres}}")
		w.write(".env", text)
	}, []string{"find"}},
	{"a .env to import", func(w *world) {
		text := "V0=" + strings.Repeat("x", 60) + "\n"
		for i := 1; i < 14; i++ {
			text += fmt.Sprintf("V%d=%s\n", i, strings.Repeat(fmt.Sprintf("$V%d", i-1), 8))
		}
		w.write(".env", text+"DATABASE_URL=postgres://u@$V13/d\n")
	}, []string{"import", "p", ".env"}},
	{"the JSON of a profile", func(w *world) {
		w.write("p.json", `{"settings":{"labels":{"a":`+nested("[", "]", 100_000)+`}}}`)
	},
		[]string{"import", "p", "p.json"}},
	{"an engine's configuration", func(w *world) {
		var auths strings.Builder
		for i := range 60_000 {
			fmt.Fprintf(&auths, `"%d":{},`, i)
		}
		w.write(".docker/config.json", `{"currentContext":"x","auths":{`+auths.String()+`"a":{}}}`)
		w.write("gharbor/profiles/p.yaml", "engine: postgres\ncontainer: hutdb\nuser: u\nsecret: none\n")
	}, []string{"test", "p"}},
	{"a connection string", func(w *world) { w.stdin = "postgres://u@h/d?" + strings.Repeat("a=b&", 60_000) },
		[]string{"import", "p", "-"}},
	{"a binding of many entries", func(w *world) {
		w.write("b/type", "postgresql")
		for i := range 5_000 {
			w.write(fmt.Sprintf("b/entry-%d", i), "x")
		}
	}, []string{"import", "p", "b"}},
	{"a binding of large entries", func(w *world) {
		w.write("b/type", "postgresql")
		for _, name := range []string{"host", "username", "password", "database", "uri", "ca.crt"} {
			w.write("b/"+name, strings.Repeat("x", 30<<20))
		}
	}, []string{"import", "p", "b"}},
	{"labelled parts", func(w *world) { w.stdin = strings.Repeat("host=h ", 37_000) }, []string{"import", "p", "-"}},
	{"a table of parts", func(w *world) { w.stdin = strings.Repeat("host\th\n", 37_000) }, []string{"import", "p", "-"}},
}

// history puts lines into a profile's history.
func (w *world) history(name, lines string) {
	w.Helper()
	_ = w.run("test", name, "--secret", "none", "--timeout", "100ms", "--host", "127.0.0.1")
	entries, err := filepath.Glob(filepath.Join(w.home, "gharbor/state/history/*.jsonl"))
	if err != nil || len(entries) != 1 {
		w.Fatalf("%v %v", entries, err)
	}
	must(w.T, os.WriteFile(entries[0], []byte(lines), 0o600))
}

// TestBombs has each reader of the program read a text that is made to become much: none takes
// more than 64 MB over what the program takes anyway, and each ends in the time of a leg.
func TestBombs(t *testing.T) {
	base := newWorld(t).weighed("version").peak
	for _, each := range bombs {
		w := newWorld(t)
		each.make(w)
		w.within(base, each.about, each.args...)
	}
}

// TestWellMadeAndMuch reads what people have much of, as they write it: no budget is reached.
func TestWellMadeAndMuch(t *testing.T) {
	w := newWorld(t)
	for i := range 10_000 {
		w.write(fmt.Sprintf("gharbor/profiles/g%d/p%d.yaml", i%100, i),
			"engine: postgres\nhost: db.fellside.example\nuser: warden_app\n")
	}
	if r := w.must(0, "list", "--json"); strings.Count(r.out, `"db.fellside.example`) < 10_000 || r.err != "" {
		t.Errorf("%d profiles, %s", strings.Count(r.out, `"db.fellside.example`), r.err)
	}
	var aliases, services strings.Builder
	for i := range 5_000 {
		fmt.Fprintf(&aliases, "a%d:\n  engine: postgres\n  addresses: [db%d.fellside.example:5432, "+
			"spare%d.fellside.example]\n",
			i, i, i)
	}
	w.write("gharbor/aliases.yaml", aliases.String())
	has(t, w.must(0, "alias", "show", "a4999").out, "spare4999.fellside.example")
	e := practiceEngine(t, w)
	for i := range 200 {
		name := fmt.Sprintf("huts-db%d-1", i)
		c := standin.Contained{ID: fmt.Sprintf("%064x", i+1), Name: name, Image: "postgres:16",
			Published: map[int][]string{5432: {fmt.Sprintf("127.0.0.1:%d", 20000+i),
				fmt.Sprintf("[::1]:%d", 20000+i)}},
			Env: []string{"POSTGRES_USER=warden_app"}, Labels: labels("huts", fmt.Sprintf("db%d", i), w.home)}
		for j := range 60 {
			c.Labels[fmt.Sprintf("example.fellside.label-%d", j)] = strings.Repeat("x", 100)
			c.Env = append(c.Env, fmt.Sprintf("SETTING_%d=%s", j, strings.Repeat("y", 100)))
		}
		e.Put(c)
	}
	services.WriteString("name: huts\nservices:\n")
	for i := range 100 {
		fmt.Fprintf(&services, "  db%d:\n    image: postgres:${PG:-16}\n    env_file: .env\n    ports: "+
			"['${HOST_ADDRESS:-127.0.0.1}:%d:5432']\n    environment:\n      POSTGRES_USER: "+
			"${DB_USER:-warden_app}\n      POSTGRES_DB: hut%d\n",
			i, 20000+i, i)
	}
	w.write("compose.yaml", services.String())
	w.write(".env", "BASE=/srv\nDATA=${BASE}/data\n")
	r := w.must(0, "find", "--json")
	if n := strings.Count(r.out, `"the container huts-db`); n != 200 ||
		strings.Count(r.out, "the service db") < 100 || strings.Contains(r.out+r.err, "more than") {
		t.Errorf("%d containers, %d services, %s", n, strings.Count(r.out, "the service db"), r.err)
	}
}

// TestBombsOnTheWay has others send what is made to become much: a container engine, a cloud
// before and after the sign-in, a hop and its known hosts, a server's greeting. Each is refused
// within the budget that every reader has.
func TestBombsOnTheWay(t *testing.T) {
	base := newWorld(t).weighed("version").peak
	many := func(n int, text string) string { return strings.Repeat(text+",", n) + text }
	w := newWorld(t)
	e := practiceEngine(t, w)
	w.write("gharbor/profiles/p.yaml", "engine: postgres\ncontainer: hutdb\nuser: u\nsecret: none\n")
	for about, body := range map[string]string{
		"containers": "[" + many(2_600_000, "{}") + "]",
		"ports":      `[{"Id":"f","Names":["/a"],"Ports":[` + many(2_600_000, "{}") + "]}]",
		"ports of many": "[" + many(4000,
			`{"Id":"f","Names":["/a"],"Image":"postgres","Ports":[`+many(20, "{}")+"]}") + "]",
		"networks": `{"Id":"f","Name":"/hutdb","NetworkSettings":{"Networks":{` + many(400_000, `"a":{}`) + "}}}",
		"networks of many": `{"Id":"f","Name":"/hutdb","State":{"Status":"running"},"NetworkSettings":{"Networks":{` +
			many(4_900, `"a":{}`) + "}}}",
		"labels":         `{"Id":"f","Name":"/hutdb","Config":{"Labels":{` + many(700_000, `"a":""`) + "}}}",
		"a long text":    `{"Id":"f","Name":"/hutdb","Config":{"Image":"` + strings.Repeat("x", 7<<20) + `"}}`,
		"escapes":        `{"Id":"f","Name":"/hutdb","Config":{"Image":"` + strings.Repeat("\\u0041", 1<<20) + `"}}`,
		"depth":          nested(`{"a":`, "}", 1<<20),
		"more than 8 MB": "[" + many(9<<10, `"`+strings.Repeat("x", 1000)+`"`) + "]",
	} {
		e.Misbehave(standin.EngineFaults{Body: body})
		w.within(base, "an engine: "+about, "find")
		w.within(base, "an engine, for a test: "+about, "test", "p")
	}
	c := newClouded(t)
	c.cloud.Misbehave(standin.CloudFaults{Answer: func(rw http.ResponseWriter, r *http.Request) bool {
		rw.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(rw, `{"issuer":[`+many(300_000, "{}")+`]}`)
		return true
	}})
	c.within(base, "a cloud: metadata", "cloud", "add", "other", c.cloud.URL())
	c.cloud.Misbehave(standin.CloudFaults{})
	c.confirming()
	c.signIn()
	page := 0
	for about, each := range map[string]struct {
		status int
		body   string
	}{
		"servers": {200, `{"servers":[` + many(330_000, "{}") + "]}"},
		"copies":  {200, `{"servers":[{"replicas":[` + many(330_000, "{}") + "]}]}"},
		"a page": {200, `{"servers":[` + many(900,
			`{"id":"srv-1","name":"a","engine":"postgres","state":"running","addresses":[{"kind":"public","host":"h.example","port":5432}]}`) +
			"]}"},
		"problems": {403, `{"title":"` + strings.Repeat("x", 900<<10) + `","detail":[` + many(30_000, "{}") + "]}"},
		"authority": {200, `{"servers":[{"id":"srv-1","name":"a","engine":"postgres","state":"running","addresses":[],"authority":"` +
			strings.Repeat("x", 900<<10) + `"}]}`},
	} {
		c.cloud.Misbehave(standin.CloudFaults{Answer: func(rw http.ResponseWriter, r *http.Request) bool {
			if !strings.HasPrefix(r.URL.Path, "/v1/") {
				return false
			}
			page++
			rw.Header().Set("Content-Type",
				map[int]string{200: "application/json", 403: "application/problem+json"}[each.status])
			rw.Header().Set("Link", fmt.Sprintf(`</v1/servers?page=%d>; rel="next"`, page))
			rw.WriteHeader(each.status)
			_, _ = io.WriteString(rw, each.body)
			return true
		}})
		c.within(base, "a cloud: "+about, "cloud", "servers", "fellside")
	}
	sshd := jumptest.Start(t, nil)
	key := jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")
	sshd.Admit(key.Public)
	for about, known := range map[string]string{
		"short lines": strings.Repeat("a b c\n", 2_700_000),
		"long lines":  strings.Repeat(strings.Repeat("a,", 500_000)+" ssh-ed25519 AAAA\n", 16),
		"many names": strings.Repeat("h,*,!a ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0N2V0mFQ3CqYd7GQv3m2S5m8m3Yk3mNwq0m1u1kq0e\n",
			180_000),
		"hashed names": strings.Repeat("|1|AAAAAAAAAAAAAAAAAAAAAAAAAAA=|AAAAAAAAAAAAAAAAAAAAAAAAAAA= "+
			"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ0N2V0mFQ3CqYd7GQv3m2S5m8m3Yk3mNwq0m1u1kq0e\n",
			110_000),
		"patterns": strings.Repeat("*a*a*a*a*a*a*b ssh-ed25519 "+
			"AAAAC3NzaC1lZDI1NTE5AAAAIJ0N2V0mFQ3CqYd7GQv3m2S5m8m3Yk3mNwq0m1u1kq0e\n",
			150_000),
	} {
		w.write(".ssh/known_hosts", known[:min(len(known), 8<<20)])
		w.within(base, "known hosts: "+about, "test", "postgres://u@127.0.0.1:1/d", "--secret", "none",
			"--via", fmt.Sprintf("127.0.0.1:%d", sshd.Port))
	}
	for about, first := range map[string]string{
		"lines before its version": strings.Repeat("x\r\n", 1<<20), "one long line": strings.Repeat("x", 4<<20),
		"a long version": "SSH-2.0-" + strings.Repeat("x", 4<<20) + "\r\n",
		"a packet":       "SSH-2.0-x\r\n\x7f\xff\xff\xff" + strings.Repeat("x", 4<<20),
	} {
		hop := listening(t, first)
		w.within(base, "a hop: "+about, "test", "postgres://u@h/d", "--secret", "none",
			"--via", fmt.Sprintf("127.0.0.1:%d", hop))
		for _, engine := range []string{"postgres", "mysql", "oracle", "mongodb"} {
			w.within(base, engine+" at "+about, "test", fmt.Sprintf("%s://u@127.0.0.1:%d/d", engine, hop), "--secret", "none")
		}
	}
}

// listening gives a port at which each connection is sent a text, and then nothing.
func listening(t *testing.T, first string) int {
	t.Helper()
	return port(t, func(conn net.Conn) {
		_, _ = io.WriteString(conn, first)
		_, _ = io.Copy(io.Discard, conn)
	})
}

// weighed runs the program, and has the largest memory of its own as the peak: the system counts
// that of who starts a program with its own.
func (w *world) weighed(args ...string) result {
	w.Helper()
	cmd := w.command(args...)
	cmd.Stdin = strings.NewReader(w.stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	began := time.Now()
	must(w.T, cmd.Start())
	ended, peaks := make(chan struct{}), make(chan int64)
	go func() {
		peak := int64(0)
		for ticker := time.NewTicker(time.Millisecond); ; <-ticker.C {
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid)) // proc(5): VmHWM is of this program alone
			if _, rest, is := strings.Cut(string(status), "VmHWM:"); is {
				var kb int64
				_, _ = fmt.Sscan(rest, &kb)
				peak = max(peak, kb<<10)
			}
			select {
			case <-ended:
				peaks <- peak
				return
			default:
			}
		}
	}()
	giveUp := time.AfterFunc(40*time.Second, func() { _ = cmd.Process.Kill() })
	_ = cmd.Wait()
	giveUp.Stop()
	close(ended)
	r := result{out: out.String(), err: errs.String(), took: time.Since(began),
		code: cmd.ProcessState.ExitCode(), peak: <-peaks}
	if strings.Contains(r.out+r.err, "goroutine ") {
		w.Errorf("%v leaves a stack trace:\n%s%s", args, r.out, r.err)
	}
	return r
}

// TestWhatALibraryLogs has a container engine say more than it was asked: the HTTP library writes
// that into its log, with the engine's own words, and nothing of the log reaches a terminal.
func TestWhatALibraryLogs(t *testing.T) {
	w := newWorld(t)
	folder, err := os.MkdirTemp("", "ghe")
	must(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	listener, err := net.Listen("unix", filepath.Join(folder, "e.sock"))
	must(t, err)
	serving(t, listener, func(conn net.Conn) {
		_, _ = conn.Read(make([]byte, 4096))
		_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nApi-Version: 1.47\r\nContent-Type: "+
			"application/json\r\nContent-Length: 2\r\n\r\n[]HTTP/1.1 500 \x1b[2Jlook here\r\n\r\n")
		_, _ = io.Copy(io.Discard, conn)
	})
	w.environ = append(w.environ, "DOCKER_HOST=unix://"+listener.Addr().String())
	for range 3 {
		if r := w.run("find", "--only", "containers"); strings.Contains(r.err+r.out, "look here") ||
			strings.Contains(r.err, "Unsolicited") || strings.Contains(r.err, "\x1b") {
			t.Errorf("%q", r.err)
		}
	}
	// A library that fills variables in writes which were not set.
	w.write("compose.yaml", "services: {db: {image: postgres, environment: {A: '${NONE:-${OTHER}}'}}}\n")
	if r := w.must(0, "find", "--only", "compose"); strings.Contains(r.err, "OTHER") || strings.Contains(r.err, "level=") {
		t.Errorf("%q", r.err)
	}
}

// TestLettersOfOthers has a project's host be written with a letter that only looks Latin: who is
// asked to agree sees its code point.
func TestLettersOfOthers(t *testing.T) {
	w := newWorld(t)
	w.write(".gentle-harbor/profiles/p.yaml",
		"engine: postgres\nhost: db.fellside.example\nuser: warden\u0430\nsecret: none\nnote: "+
			"\u0434\u043b\u044f \u0432\u0441\u0435\u0445\n")
	must(t, os.Chmod(filepath.Join(w.home, ".gentle-harbor"), 0o755))
	must(t, os.Chmod(filepath.Join(w.home, ".gentle-harbor/profiles"), 0o755))
	r := w.must(2, "agree", "p")
	has(t, r.out, "warden\u0430[U+0430]")
	if strings.Contains(r.out, "U+0434") {
		t.Errorf("a word of one script is marked: %s", r.out)
	}
}

// within runs the program and says whether it kept to the budget of every reader. A busy machine
// collects memory later: a run that took more is made once more.
func (w *world) within(base int64, about string, args ...string) {
	w.Helper()
	r := w.weighed(args...)
	if (r.peak-base)>>20 > 64 {
		r = w.weighed(args...)
	}
	if over := (r.peak - base) >> 20; over > 64 {
		w.Errorf("%s takes %d MB", about, over)
	}
	if r.took > 6*time.Second {
		w.Errorf("%s takes %s", about, r.took)
	}
	if r.code < 0 || len(r.out)+len(r.err) > 1<<20 {
		w.Errorf("%s: exit %d, %d bytes", about, r.code, len(r.out)+len(r.err))
	}
}
