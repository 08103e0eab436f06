//go:build unix

package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
)

// TestBenchScript measures scripts against the bare driver that sends the same statements: the
// made sample database with 300,000 rows, in ten files that are included, and a script of 200 MB;
// and a single statement of 50 MB.
func TestBenchScript(t *testing.T) {
	measured(t)
	ctx := context.Background()
	for _, name := range []string{"postgres", "mariadb"} {
		s := realServer(t, name)
		w := newWorld(t, "PW="+canary)
		p := w.save("p", name, s.warden()...)
		w.must(0, "run", p, "create table benched (n int, name varchar(60), height int)")
		one := bareRun(t, name, s)
		var peak int64
		run := func(file string) func() time.Duration {
			return func() time.Duration {
				w.must(0, "run", p, "truncate table benched")
				cmd := w.command("run", p, "--from", file, "--end-word", "close-with")
				return clocked(func() {
					if out, err := cmd.CombinedOutput(); err != nil {
						t.Fatalf("%v\n%s", err, out[:min(len(out), 2000)])
					}
					peak = max(peak, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
				})
			}
		}
		bare := func(files ...string) func() time.Duration {
			return func() time.Duration {
				w.must(0, "run", p, "truncate table benched")
				return clocked(func() {
					for _, file := range files {
						each(t, file, func(statement string) { must(t, one(ctx, statement)) })
					}
				})
			}
		}
		// Three rows a statement; ten files make the sample.
		var parts []string
		main := ""
		for i := range 10 {
			part := fmt.Sprintf("part%d.sql", i)
			write(t, filepath.Join(w.home, part), 10_000, 3)
			parts = append(parts, filepath.Join(w.home, part))
			main += "-- gharbor: include " + part + "\n"
		}
		file := w.write("main.sql", main)
		a, b := median(3, run(file), bare(parts...))
		benchRatio(t, "a script of 300,000 rows in ten files that it includes, against the bare driver "+
			"sending the same ("+name+")",
			a, b, 1.3, 0)
		large := filepath.Join(w.home, "large.sql")
		write(t, large, 4_000, 1000)
		a, b = median(3, run(large), bare(large))
		info, err := os.Stat(large)
		must(t, err)
		benchRatio(t, fmt.Sprintf("a script of %d MB, against the bare driver sending the same (%s)",
			info.Size()>>20, name), a, b, 1.3, 0)
		fmt.Printf("\nMemory of the whole process with scripts (%s): %d MB (bar: 64 MB)\n", name, peak>>20)
		if peak > 64<<20 {
			t.Errorf("%s: %d MB", name, peak>>20)
		}
	}
}

// TestSingleStatement runs one statement of 50 MB: it takes the memory of what is held at once,
// the text that is read and the one that is sent, and no more.
func TestSingleStatement(t *testing.T) {
	s := realServer(t, "postgres") // MariaDB takes no more than 16 MB in its usual setting
	w := newWorld(t, "PW="+canary)
	p := w.save("p", "postgres", s.warden()...)
	single := w.write("single.sql", "select length('"+strings.Repeat("a;''", 12_500_000)+"');\n")
	cmd := w.command("run", p, "--from", single, "--as", "bare")
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.HasPrefix(string(out), "37500000") {
		t.Fatalf("%v\n%s", err, out[:min(len(out), 2000)])
	}
	peak := cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
	t.Logf("Memory with a single statement of 50 MB: %d MB, %v", peak>>20, cmd.ProcessState.UserTime())
	if peak > 200<<20 {
		t.Errorf("%d MB", peak>>20)
	}
}

// write makes a file of statements, a statement a line, each with some rows.
func write(t *testing.T, path string, statements, rows int) {
	t.Helper()
	file, err := os.Create(path)
	must(t, err)
	defer file.Close()
	to := bufio.NewWriter(file)
	for n := range statements {
		fmt.Fprint(to, "insert into benched values ")
		for i := range rows {
			if i > 0 {
				_ = to.WriteByte(',')
			}
			fmt.Fprintf(to, "(%d, 'Greystone; %d of the ''long'' list', %d)", n*rows+i, i, n%3000)
		}
		_, _ = to.WriteString(";\n")
	}
	must(t, to.Flush())
}

// each gives the statements of a file that has one a line.
func each(t *testing.T, path string, do func(string)) {
	t.Helper()
	file, err := os.Open(path)
	must(t, err)
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		do(strings.TrimSuffix(lines.Text(), ";"))
	}
	must(t, lines.Err())
}

// bareRun gives a function of the bare driver that sends one statement.
func bareRun(t *testing.T, name string, s *server) func(ctx context.Context, statement string) error {
	t.Helper()
	if name == "postgres" {
		conn := barePostgres(t, s, "bunkhouse")
		return func(ctx context.Context, statement string) error {
			return conn.ExecParams(ctx, statement, nil, nil, nil, nil).Read().Err
		}
	}
	db := bareMariaDB(t, s, func(*mysql.Config) {})
	return func(ctx context.Context, statement string) error {
		_, err := db.ExecContext(ctx, statement)
		return err
	}
}
