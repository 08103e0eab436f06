//go:build unix

package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/creack/pty"

	"gentle-harbor/internal/standin"
)

// enters types a text and Enter.
func (p *person) enters(text string) {
	p.Helper()
	p.Types(text + "\r")
}

const talks = "Ctrl-D leaves."

// listens is what the editor of lines sends when it begins to read: the terminal is to say what is
// pasted. A key that comes together with the Ctrl-C before it is taken for a part of it.
const listens = "\x1b[?2004h"

// TestTalk sits at the prompt of both real servers, straight and behind a hop: statements, a
// transaction, one that fails, Ctrl-C of what is typed and of what runs, the words of the
// session, a connection that is lost in a transaction, and Ctrl-D.
func TestTalk(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	for _, engine := range []string{"postgres", "mariadb"} {
		s := realMariaDB(t)
		if engine == "postgres" {
			s = realPostgres(t)
		}
		own := h.save("own-"+engine, engine, s.warden()...)
		for way, flags := range map[string][]string{"straight": nil, "hop": {"--via", h.via}} {
			t.Run(engine+" "+way, func(t *testing.T) {
				p := h.sitAt(100, append([]string{"talk", own}, flags...)...)
				p.Reads("As warden_app")
				p.Reads(talks)
				p.enters("select 400000+2 as answer;")
				p.Reads("answer")
				p.Reads("400002")
				p.enters("select 400000")
				p.Reads("; ends the statement")
				p.enters("+3;")
				p.Reads("400003")
				p.Types("select 'half")
				p.Reads("half")
				p.Types("\x03")
				p.Reads(listens)
				p.enters("select 'what''s', 400000+4;")
				p.Reads("400004")
				p.enters("begin;")
				p.Reads("in a transaction")
				if engine == "postgres" {
					p.enters("select 1/0;")
					p.Reads("finding query.")
					p.Reads("failed transaction: rollback first")
				}
				p.enters("gharbor database other")
				p.Reads("commit or rollback comes first")
				p.enters("rollback;")
				p.Reads("Done")
				word := "word-talk-" + engine + way
				p.enters(fmt.Sprintf(map[string]string{"postgres": "select pg_sleep(60), '%s';",
					"mariadb": "select sleep(60), '%s';"}[engine], word))
				for end := time.Now().Add(10 * time.Second); sleeping(t, engine, h.world, own, word) != 1; time.Sleep(20 * time.Millisecond) {
					if time.Now().After(end) {
						t.Fatalf("the statement does not run:\n%s", p.Screen())
					}
				}
				p.Types("\x03")
				p.Reads("Ending the statement")
				began := time.Now()
				p.enters("select 400000+5;")
				p.Reads("400005")
				if took := time.Since(began); took > 2*time.Second || sleeping(t, engine, h.world, own, word) != 0 {
					t.Errorf("after %s the statement goes on", took)
				}
				p.Types("select count(*) as bookings from booki\t;\r")
				p.Reads("1 row")
				p.Types("gharbor surve\t")
				p.enters(" databases --as csv")
				p.Reads("bunkhouse,")
				p.enters("gharbor survey " + own + " schemas --as csv")
				p.Reads(map[string]string{"postgres": "public,", "mariadb": "not known here"}[engine])
				p.enters("gharbor run --from " + h.write("at-the-prompt.sql", "select 400000+8;\n"))
				p.Reads("400008")
				p.enters("gharbor as csv")
				p.enters("select 'x,y' as a, null as b;")
				p.Reads("a,b")
				p.Reads(`"x,y",`)
				p.enters("gharbor as table")
				p.enters("gharbor test own")
				p.Reads("does not work in a session")
				p.enters("gharbor surwey")
				p.Reads("did you mean survey?")
				// It is ended at the server, in a transaction.
				p.enters(map[string]string{"postgres": "begin; select concat('id=', pg_backend_pid());",
					"mariadb": "begin; select concat('id=', connection_id());"}[engine])
				p.Reads("id=")
				p.Reads("in a transaction")
				met := regexp.MustCompile(`id=(\d+)`).FindAllStringSubmatch(p.Screen(), -1)
				id := met[len(met)-1][1]
				h.must(0, "run", own,
					map[string]string{"postgres": "select pg_terminate_backend(" + id + ")",
						"mariadb": "kill connection " + id}[engine])
				p.enters("select 400000+6;")
				p.Reads("The connection is lost: the transaction is undone")
				p.Reads("not connected")
				p.enters("select 400000+7;")
				p.Reads("As warden_app")
				p.Reads("400007")
				if strings.Contains(p.Screen(), "400006") {
					t.Error("a statement was sent twice")
				}
				p.enters("begin;")
				p.Reads("in a transaction")
				p.Types("\x04")
				p.Answers("Leave?", "no")
				p.Types("\x04")
				p.Answers("Leave?", "yes")
				if code, _ := p.Ends(); code != 0 {
					t.Errorf("exit %d:\n%s", code, p.Screen())
				}
				if strings.Contains(p.Screen(), canary) {
					t.Error("the password is on the screen")
				}
			})
		}
	}
}

// TestTalkOpensAnotherDatabase goes to another database: PostgreSQL by a new connection, MariaDB
// in the same session.
func TestTalkOpensAnotherDatabase(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		s := practice(t, standin.Config{Engine: engine, Databases: []string{"bunkhouse", "archive"}})
		w := newWorld(t, "PW="+canary)
		w.wardens("p", engine, s)
		p := w.sitAt(100, "talk", "p")
		p.Reads(talks)
		p.Reads("p bunkhouse as")
		p.enters("gharbor database archive")
		if engine == "postgres" {
			p.Reads("A new connection is made")
		}
		p.Reads("p archive as")
		p.enters("gharbor database nowhere")
		p.Reads(map[string]string{"postgres": "finding database.missing",
			"mariadb": "finding query.no-such-database"}[engine])
		if engine == "postgres" {
			p.Reads("The database is archive again")
			p.enters("select 1;")
		}
		p.Reads("p archive as")
		p.enters("gharbor leave")
		if code, _ := p.Ends(); code != 0 {
			t.Errorf("%s: exit %d\n%s", engine, code, p.Screen())
		}
	}
}

// TestTalkRemembers has two sessions of one profile: the second finds what was typed in the
// first, but for what begins with a space and what may hold a password. The file is the user's
// alone.
func TestTalkRemembers(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.wardens("p", "postgres", s)
	p := w.sitAt(100, "talk", "p")
	p.Reads(talks)
	p.enters("select name")
	p.enters("from hut;")
	p.Reads("Greystone")
	p.enters(" select 'not this';")
	p.enters("alter user x password '" + canary + "';")
	p.Reads("finding")
	p.enters("gharbor leave")
	p.Ends()
	found := 0
	must(t, filepath.WalkDir(filepath.Join(w.home, "gharbor", "state", "talk"),
		func(path string, entry os.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".jsonl") {
				return err
			}
			found++
			info, err := entry.Info()
			must(t, err)
			data, err := os.ReadFile(path)
			must(t, err)
			if info.Mode().Perm() != 0o600 || string(data) != "\"select name\\nfrom hut;\"\n\"gharbor leave\"\n" {
				t.Errorf("%v %q", info.Mode(), data)
			}
			return nil
		}))
	if found != 1 {
		t.Errorf("%d files", found)
	}
	p = w.sitAt(100, "talk", "p")
	p.Reads(talks)
	p.Types("\x1b[A\x1b[A") // up, up
	p.Types("\r")
	p.Reads("Greystone")
	p.enters("gharbor leave")
	p.Ends()
}

// TestTalkIsQuietAboutFiles has files and variables of other programs that would bind keys, start
// programs and change what is shown: none has a part in it.
func TestTalkIsQuietAboutFiles(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	marker := filepath.Join(w.home, "marker")
	editor := w.write("editor", "#!/bin/sh\ntouch "+marker+"\n")
	must(t, os.Chmod(editor, 0o700))
	hostile := "set editing-mode vi\nset enable-bracketed-paste off\n\"x\": \"select " +
		"'hostile';\\r\"\nControl-e: edit-and-execute-command\n\"\\e[200~\": \"\"\n"
	w.write(".inputrc", hostile)
	w.environ = append(w.environ, "INPUTRC="+w.write("inputrc", hostile), "EDITOR="+editor, "VISUAL="+editor)
	w.wardens("p", "postgres", s)
	p := w.sitAt(100, "talk", "p")
	p.Reads(talks)
	p.Types("\x18\x05") // Ctrl-X Ctrl-E, which starts an editor elsewhere
	p.Types("\x18\x12") // Ctrl-X Ctrl-R, which reads the file again elsewhere
	p.Types("\x03")
	p.enters("select 'xx' as mark;")
	p.Reads("mark")
	// What is pasted runs nothing by itself, and steers nothing.
	p.Types("\x1b[200~select 'pasted \x1b]0;title\x07one';\rselect 2;\r\x1b[201~")
	time.Sleep(300 * time.Millisecond)
	if strings.Contains(p.Screen(), "row\r\n\r\np") && strings.Contains(p.Screen(), "\x1b]0;title") {
		t.Errorf("%q", p.Screen())
	}
	if strings.Contains(p.Screen(), "\x1b]0;") {
		t.Error("a paste steers the terminal")
	}
	p.Types("\r")
	p.Reads("pasted ]0;titleone")
	p.enters("gharbor leave")
	p.Ends()
	if _, err := os.Stat(marker); err == nil {
		t.Error("an editor was started")
	}
	if strings.Contains(p.Screen(), "hostile") {
		t.Error("a key was bound")
	}
}

// TestTalkNeedsATerminal points to run, and says what is wrong with settings.
func TestTalkNeedsATerminal(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(0, "add", "p", "--engine", "postgres", "--host", "h", "--user", "u")
	has(t, w.must(2, "talk", "p").err, "gharbor run p --from -")
	has(t, w.must(0, "talk", "--show-settings").out, "edit", "emacs", "There is no", "talk.yaml")
	w.write("gharbor/talk.yaml", "took: true\nedti: vi\n")
	has(t, w.must(3, "talk", "--show-settings").err, "talk.yaml:2", "did you mean edit?")
	w.write("gharbor/talk.yaml", "took: true\nedit: vi\nprompt: [user]\n")
	has(t, w.must(0, "talk", "--show-settings").out, "true", "vi", "They are in")
}

// leaves ends a talk and checks that all is well.
func (p *person) leaves() {
	p.Helper()
	p.enters("gharbor leave")
	if code, _ := p.Ends(); code != 0 {
		p.Errorf("exit %d:\n%s", code, p.Screen())
	}
}

// TestTalkShowsPages has results that are longer and wider than the screen, of 60 columns: moves,
// finds, leaves, and the screen from before is there again. A million rows take little memory,
// and the server is not held by who reads.
func TestTalkShowsPages(t *testing.T) {
	t.Parallel()
	s := realPostgres(t)
	w := newWorld(t, "PW="+canary)
	own := w.save("own", "postgres", s.warden()...)
	p := w.sitAt(60, "talk", own)
	p.Reads(talks)
	p.enters(`select n as number, 'hut ' || n as name, repeat('wide ', 9) as remark, E'\x1b]0;title\x07' as odd, n * 2 as "last" from generate_series(1, 100000) n;`)
	p.Reads("rows 1 to 36 of 100000")
	p.Types("\x1b[6~")
	p.Reads("rows 37 to 72 of 100000")
	p.Types("\x1b[F")
	p.Reads("rows 99965 to 100000 of 100000")
	p.Types("\x1b[C\x1b[C\x1b[C")
	p.Reads("columns 1 and 4 to 5 of 5")
	p.Types("\x1b[H")
	p.Types("fHUT 77777\r")
	p.Reads("row 77777, column name")
	p.Types("n")
	p.Reads("is not in what follows")
	p.Types("\x1b")
	p.Reads("100000 rows")
	if strings.Contains(p.Screen(), "\x1b]0;") {
		t.Error("a value steers the terminal")
	}
	if left, _ := filepath.Glob(filepath.Join(w.home, "gharbor", "state", "talk", "rows-*")); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
	// A short and narrow one is a table.
	p.enters("select 1 as one;")
	p.Reads("1 row")
	// Ctrl-C in the pages ends what still comes, and leaves when all has come.
	p.enters("select n, pg_sleep(0.05)::text, 'word-paged' from generate_series(1, 2000) n;")
	p.Reads("so far")
	p.Types("\x03")
	for end := time.Now().Add(5 * time.Second); sleeping(t, "postgres", w, own, "word-paged") != 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the statement goes on")
		}
	}
	p.Types("\x1b")
	p.Reads("> ")
	// A million.
	p.enters("select n, md5(n::text), repeat('x', 100) from generate_series(1, 1000000) n;")
	p.Reads("of 1000000")
	for end := time.Now().Add(10 * time.Second); sleeping(t, "postgres", w, own,
		"generate_series(1, 1000000)") != 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("a reading person holds the server")
		}
	}
	p.Types("\x1b[F")
	p.Reads("1000000 of 1000000")
	p.Types("q")
	// What the process itself has used at the most: the usage that is given at its end counts the
	// memory of the tests too, from which it was started.
	if status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.Cmd.Process.Pid)); err == nil {
		met := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindStringSubmatch(string(status))
		peak, err := strconv.Atoi(met[1])
		must(t, err)
		t.Logf("a million rows in pages: %d MB", peak>>10)
		if peak > 64<<10 {
			t.Errorf("%d MB", peak>>10)
		}
	}
	p.leaves()
}

// TestTalkEdits types in both styles, changes the size of the screen, writes wide letters, and
// pastes a megabyte.
func TestTalkEdits(t *testing.T) {
	t.Parallel()
	s := realPostgres(t)
	w := newWorld(t, "PW="+canary)
	own := w.save("own", "postgres", s.warden()...)
	for _, style := range []string{"emacs", "vi"} {
		w.write("gharbor/talk.yaml", "edit: "+style+"\n")
		p := w.sitAt(60, "talk", own)
		p.Reads(talks)
		if style == "emacs" {
			p.Types("500000+1 as x;\x01select \r") // Ctrl-A goes to the beginning
		} else {
			p.Types("500000+1 as x;")
			p.Types("\x1b")
			time.Sleep(700 * time.Millisecond) // an escape alone is one only after a moment
			p.Types("0iselect \r")
		}
		p.Reads("500001")
		must(t, pty.Setsize(p.Terminal, &pty.Winsize{Rows: 20, Cols: 90}))
		p.enters("select '山小屋 Hüttenbuch æé' as 名, 500000+2, char_length('山ü');")
		p.Reads("山小屋 Hüttenbuch æé  ")
		p.Reads("500002")
		if style == "emacs" {
			p.Types("select 500000+ y;\x1b[D\x1bb\x7f3 as \r") // to the left, a word back (Alt-b)
			p.Reads("500003")
		}
		size := 1 << 20
		if n, err := strconv.Atoi(os.Getenv("PASTE")); err == nil {
			size = n
		}
		big := strings.Repeat("x", size)
		began := time.Now()
		p.Types(fmt.Sprintf("\x1b[200~select length('%s') + %d;\x1b[201~", big, 500002-size))
		p.Types("\r")
		p.Reads("500002")
		t.Logf("%s: a paste of a megabyte took %s", style, time.Since(began))
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s: %s", style, took)
		}
		p.leaves()
	}
}

// TestTalkAsksAsRunDoes has the guards of a profile, and what removes a lot: the same questions
// as in run, for each statement anew.
func TestTalkAsksAsRunDoes(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		s := realMariaDB(t)
		if engine == "postgres" {
			s = realPostgres(t)
		}
		w := newWorld(t, "PW="+canary)
		own := w.save("own", engine, append(s.at("127.0.0.1"), "--user", "warden_app",
			"--database", "bunkhouse", "--secret", "env:PW", "--label", "stage=live")...)
		for guard, does := range map[string]func(p *person){
			"confirm": func(p *person) {
				p.Reads("guarded, live")
				p.enters("create temporary table word_talk (n integer);")
				p.Answers("Run it?", "yes")
				p.Reads("Done")
				p.enters("insert into word_talk values (1);")
				p.Answers("Run it?", "no")
				p.Reads("nothing was done")
				p.enters("update word_talk set n = 2 where n = 1;")
				p.Reads("(0 rows now)")
				p.Answers("Run it?", "no")
				p.enters("begin;")
				p.Reads("in a transaction")
				p.enters("delete from word_talk where n = 0;")
				p.Reads("(0 rows now)")
				p.Answers("Run it?", "yes")
				p.Reads("0 rows changed")
				p.enters("rollback;")
				p.Reads("Done")
			},
			"read-only": func(p *person) {
				p.Reads("guarded")
				p.enters("insert into hut (name) values ('x');")
				p.Reads("finding query.guarded")
			},
			"none": func(p *person) {
				p.enters("create temporary table word_talk (n integer);")
				p.Reads("Done")
				p.enters("drop table word_talk;")
				p.Answers("can remove a lot", "no")
				p.Reads("nothing was done")
				p.enters("insert into word_talk values (1);")
				p.Reads("1 row changed")
			},
		} {
			t.Run(engine+" "+guard, func(t *testing.T) {
				p := w.sitAt(100, "talk", own, "--guard", guard)
				p.T = t
				p.Reads(talks)
				does(p)
				p.leaves()
			})
		}
	}
}

// TestTalkMeetsAnother has another server answer after the connection was lost: nothing is sent
// until the person agrees.
func TestTalkMeetsAnother(t *testing.T) {
	t.Parallel()
	first := practice(t, standin.Config{Engine: "postgres", Identity: 1})
	w := newWorld(t, "PW="+canary)
	w.wardens("p", "postgres", first)
	p := w.sitAt(100, "talk", "p")
	p.Reads(talks)
	p.enters("select 1;")
	p.Reads("1 row")
	address := first.Address()
	first.Close()
	practice(t, standin.Config{Engine: "postgres", Address: address, Identity: 2})
	p.enters("select 2;")
	p.Reads("The connection is lost")
	p.enters("select name from hut;")
	p.Answers("Go on there?", "no")
	p.Reads("not connected")
	if strings.Contains(p.Screen(), "Greystone") {
		t.Error("the statement was sent")
	}
	p.enters("select name from hut;")
	p.Answers("Go on there?", "yes")
	p.Reads("Greystone")
	p.leaves()
}

// TestTalkDropsAServerThatDoesNotEnd has a way to the server on which nothing comes back any
// more, also when the statement is to be ended: Ctrl-C twice drops the connection, and the
// program goes on.
func TestTalkDropsAServerThatDoesNotEnd(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		s := practice(t, standin.Config{Engine: engine})
		var mute atomic.Bool
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		must(t, err)
		t.Cleanup(func() { _ = listener.Close() })
		go func() {
			for {
				client, err := listener.Accept()
				if err != nil {
					return
				}
				server, err := net.Dial("tcp", s.Address())
				if err != nil {
					_ = client.Close()
					continue
				}
				go func() { _, _ = io.Copy(server, client); _ = server.Close() }()
				go func() {
					piece := make([]byte, 32<<10)
					for {
						n, err := server.Read(piece)
						if err != nil {
							_ = client.Close()
							return
						}
						if !mute.Load() {
							_, _ = client.Write(piece[:n])
						}
					}
				}()
			}
		}()
		w := newWorld(t, "PW="+canary)
		w.must(0, "add", "p", "--engine", engine, "--host", "127.0.0.1",
			"--port", fmt.Sprint(listener.Addr().(*net.TCPAddr).Port), "--user", "warden_app",
			"--database", "bunkhouse", "--secret", "env:PW")
		p := w.sitAt(100, "talk", "p")
		p.Reads(talks)
		p.Reads("> ")
		mute.Store(true)
		p.enters("select name from hut;")
		time.Sleep(300 * time.Millisecond)
		p.Types("\x03")
		p.Reads("Ctrl-C again drops the connection")
		began := time.Now()
		p.Types("\x03")
		p.Reads("The connection is lost")
		if took := time.Since(began); took > 4*time.Second {
			t.Errorf("%s: it took %s", engine, took)
		}
		mute.Store(false)
		p.Reads("not connected")
		p.enters("select name from hut;")
		p.Reads("Greystone")
		p.leaves()
	}
}

// TestTalkExpectsAgain has expectations, the sign for no value, and statements at the start: all
// hold again where a new connection is made.
func TestTalkExpectsAgain(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres", Databases: []string{"bunkhouse", "archive"}})
	w := newWorld(t, "PW="+canary)
	w.write("gharbor/talk.yaml", "null: nothing-there\nstart:\n  - select 600000+1\n")
	w.wardens("p", "postgres", s, "--expect", "user=warden_app")
	p := w.sitAt(100, "talk", "p")
	p.Reads(talks)
	p.Reads("600001")
	p.enters("select null;")
	p.Reads("nothing-there")
	w.must(0, "change", "p", "--expect", "user=another")
	p.enters("gharbor database archive")
	p.Reads("finding expect.")
	p.Reads("The database is bunkhouse again")
	w.must(0, "change", "p", "--expect", "user=warden_app")
	p.enters("gharbor database archive")
	p.enters("select 1;")
	p.Reads("p archive as")
	p.leaves()
}

// TestTalkIsInterruptedWhileItOpens has a server that says nothing: Ctrl-C ends the opening, and
// the program.
func TestTalkIsInterruptedWhileItOpens(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{Stall: true}})
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--secret", "env:PW", "--timeout", "25s")
	p := w.sitAt(100, "talk", "p")
	time.Sleep(500 * time.Millisecond)
	p.Types("\x03")
	if code, took := p.Ends(); code != 130 || took > 5*time.Second {
		t.Errorf("exit %d after %s:\n%s", code, took, p.Screen())
	}
}
