//go:build unix

package main

import (
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/secret/keep/credentials"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/cli"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// median runs two things in turn n times and gives the median time of each.
func median(n int, first, second func() time.Duration) (a, b time.Duration) {
	var as, bs []time.Duration
	for i := range n {
		if i%2 == 0 {
			as, bs = append(as, first()), append(bs, second())
		} else {
			bs, as = append(bs, second()), append(as, first())
		}
	}
	slices.Sort(as)
	slices.Sort(bs)
	return as[n/2], bs[n/2]
}

func clocked(work func()) time.Duration {
	began := time.Now()
	work()
	return time.Since(began)
}

// benchRatio prints a row, and fails where it is over its bar and by more than slack.
func benchRatio(t *testing.T, name string, ours, theirs time.Duration, bar float64, slack time.Duration) {
	t.Helper()
	r := float64(ours) / float64(theirs)
	fmt.Printf("| %s | %.3f ms | %.3f ms | %.2f | %.2f |\n", name, float64(ours.Microseconds())/1000,
		float64(theirs.Microseconds())/1000, r, bar)
	if r > bar && ours-theirs > slack {
		t.Errorf("%s: %.2f times instead of %.2f", name, r, bar)
	}
}

// measured skips a test that scripts/bench alone runs: elsewhere a busy machine would make it fail for
// no reason.
func measured(t *testing.T) {
	t.Helper()
	if os.Getenv("BENCH") == "" {
		t.Skip("measured by scripts/bench alone")
	}
}

// bareConfig is what the bare driver connects with.
func bareConfig(t *testing.T, port int) *pgconn.Config {
	t.Helper()
	config, err := pgconn.ParseConfig(fmt.Sprintf("host=127.0.0.1 port=%d user=warden_app password=%s "+
		"dbname=bunkhouse sslmode=disable",
		port, canary))
	must(t, err)
	return config
}

// TestBench measures ratios, and holds them to the design's bars. scripts/bench runs it;
// elsewhere a busy machine would make it fail for no reason.
func TestBench(t *testing.T) {
	measured(t)
	ratio := func(name string, ours, theirs time.Duration, bar float64, slack time.Duration) {
		benchRatio(t, name, ours, theirs, bar, slack)
	}
	fmt.Println("| work | gharbor | compared with | ratio | bar |\n|---|---|---|---|---|")

	folder := t.TempDir()
	empty := filepath.Join(folder, "empty")
	must(t, os.WriteFile(empty+".go", []byte("package main\n\nfunc main() {}\n"), 0o600))
	build := exec.Command("go", "build", "-o", empty, empty+".go")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	start := func(args ...string) func() time.Duration {
		return func() time.Duration {
			return clocked(func() {
				must(t, exec.Command(args[0], args[1:]...).Run())
			})
		}
	}
	ours, theirs := median(201, start(gharbor, "version"), start(empty))
	ratio("`gharbor version`, against an empty static Go program", ours, theirs, 4.5, 0)

	many := newWorld(t)
	for i := range 10_000 {
		many.write(fmt.Sprintf("gharbor/profiles/g%d/p%d.yaml", i%100, i), "engine: postgres\nuser: warden_app\n")
	}
	ours, theirs = median(201, func() time.Duration { return many.must(0, "show", "g77/p777").took },
		func() time.Duration { return many.must(0, "version").took })
	ratio("`gharbor show` of one among 10,000 profiles, over `gharbor version`, against 2.1 ms", ours-theirs,
		2100*time.Microsecond, 1, 0)
	var lists []time.Duration
	for range 5 {
		lists = append(lists, many.must(0, "list").took)
	}
	slices.Sort(lists)
	ratio("`gharbor list` of 10,000 profiles, against 0.6 s", lists[2], 600*time.Millisecond, 1, 0)

	var aliases strings.Builder
	for i := range 5_000 {
		fmt.Fprintf(&aliases, "a%d:\n  engine: postgres\n  addresses: [db%d.fellside.example:5432, "+
			"spare%d.fellside.example]\n",
			i, i, i)
	}
	many.write("gharbor/aliases.yaml", aliases.String())
	ours, theirs = median(201, func() time.Duration { return many.must(0, "alias", "show", "a2500").took },
		func() time.Duration { return many.must(0, "version").took })
	ratio("`gharbor alias show` of one among 5,000, over `gharbor version`, against 3.6 ms", ours-theirs,
		3600*time.Microsecond, 1, 0)

	kept := newWorld(t)
	kept.must(0, "add", "huts/file", "postgres://warden_app@db7777.fellside.example/bunkhouse", "--secret", "credentials")
	kept.must(0, "add", "huts/wallet", "postgres://warden7777@db7777.fellside.example/bunkhouse", "--secret", "wallet")
	var lines, entries strings.Builder
	for i := range 100_000 / 3 {
		fmt.Fprintf(&lines, "at db%d.fellside.example:5432\n  warden_app on bunkhouse: password %d\n  "+
			"warden_app: \"other # %d\"\n",
			i, i, i)
	}
	for i := range 10_000 {
		fmt.Fprintf(&entries, "at db%d.fellside.example:5432\n  warden%d: password %d\n", i, i, i)
	}
	kept.write("gharbor/credentials", credentials.Header+"\n"+lines.String())
	kept.unattended(kept.withWallet(entries.String()))
	var peak int64
	for _, each := range []struct {
		what, profile string
		bar           time.Duration
	}{{"match in a credential file of 100,000 lines, over `gharbor version`", "huts/file",
		30 * time.Millisecond}, {"unattended opening of a wallet of 10,000 entries, over `gharbor version`",
		"huts/wallet", 60 * time.Millisecond}} {
		ours, theirs := median(41, func() time.Duration {
			r := kept.must(0, "export", each.profile, "--as", "uri", "--with-secret")
			peak = r.peak
			return r.took
		}, func() time.Duration { return kept.must(0, "version").took })
		ratio(each.what+fmt.Sprintf(" (%d MB)", peak>>20), ours-theirs, each.bar, 1, 0)
	}
	if peak > 60<<20 {
		t.Errorf("the wallet takes %d MB", peak>>20)
	}

	ctx := context.Background()
	checker := checkup.Checker{Stores: checkup.Stores{Secrets: secret.Finder{Known: secret.New(canary)}}}
	legs := func(engine string, port int) func() time.Duration {
		layer := profile.Layer{}
		for name, text := range map[string]string{"engine": engine, "host": "127.0.0.1",
			"port": fmt.Sprint(port), "user": "warden_app", "database": "bunkhouse"} {
			layer[name] = profile.Value{Text: text}
		}
		p, err := agree.Own(profile.Library{}, "bench", layer)
		must(t, err)
		return func() time.Duration {
			r, err := checker.Test(ctx, p)
			if err != nil || !r.OK {
				t.Fatalf("%v %+v", err, r.Finding)
			}
			return time.Duration(r.MS * float64(time.Millisecond))
		}
	}
	pg := realPostgres(t)
	config, err := pgconn.ParseConfig(fmt.Sprintf("host=127.0.0.1 port=%d user=warden_app password=%s "+
		"dbname=bunkhouse sslmode=disable",
		pg.port, canary))
	if err != nil {
		t.Fatal("the bare driver's settings")
	}
	ours, theirs = median(401, legs("postgres", pg.port), func() (took time.Duration) {
		var conn *pgconn.PgConn
		took = clocked(func() {
			if conn, err = pgconn.ConnectConfig(ctx, config); err != nil {
				t.Fatal(err)
			}
			if _, err := conn.Exec(ctx, "select 1").ReadAll(); err != nil {
				t.Fatal(err)
			}
		})
		_ = conn.Close(ctx)
		return took
	})
	ratio("the legs of a test, local PostgreSQL, against the bare driver's connect and ask", ours, theirs, 1.1, 0)

	maria := realMariaDB(t)
	bare := mysql.NewConfig()
	bare.Net, bare.Addr, bare.User, bare.Passwd, bare.DBName = "tcp", fmt.Sprintf("127.0.0.1:%d",
		maria.port), "warden_app", canary, "bunkhouse"
	connector, err := mysql.NewConnector(bare)
	must(t, err)
	ours, theirs = median(401, legs("mariadb", maria.port), func() (took time.Duration) {
		var conn driver.Conn
		took = clocked(func() {
			if conn, err = connector.Connect(ctx); err != nil {
				t.Fatal(err)
			}
			if _, err := conn.(driver.ExecerContext).ExecContext(ctx, "select 1", nil); err != nil {
				t.Fatal(err)
			}
		})
		_ = conn.Close()
		return took
	})
	ratio("the legs of a test, local MariaDB, against the bare driver's connect and ask (or 0.3 ms more)", ours,
		theirs, 1.15, 300*time.Microsecond)
}

// spent gives the processor time of this process, and that of a server's sessions that have ended.
func spent(t *testing.T, server int) (ours, theirs time.Duration) {
	var usage syscall.Rusage
	must(t, syscall.Getrusage(syscall.RUSAGE_SELF, &usage))
	ours = time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", server))
	must(t, err)
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	for _, field := range fields[13:15] { // cutime and cstime, in hundredths of a second (proc(5))
		n, _ := strconv.Atoi(field)
		theirs += time.Duration(n) * 10 * time.Millisecond
	}
	return ours, theirs
}

// TestBenchThousand tests a thousand profiles, sixteen at a time, against the bare driver with
// the same statements.
func TestBenchThousand(t *testing.T) {
	measured(t)
	ctx := context.Background()
	pg := realPostgres(t)
	config := bareConfig(t, pg.port)
	first, err := os.ReadFile(filepath.Join(pg.folder, "data/postmaster.pid"))
	must(t, err)
	postmaster, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(first), "\n", 2)[0]))
	must(t, err)
	crowd := newWorld(t, "PW="+canary)
	for i := range 1000 {
		crowd.write(fmt.Sprintf("gharbor/profiles/g/p%d.yaml", i),
			fmt.Sprintf("engine: postgres\nhost: 127.0.0.1\nport: %d\nuser: warden_app\ndatabase: bunkhouse\nsecret: env:PW\n",
				pg.port))
	}
	open := func() int {
		entries, _ := os.ReadDir("/proc/self/fd")
		return len(entries)
	}
	before := open()
	crowded := func() time.Duration {
		return clocked(func() {
			var out strings.Builder
			app := cli.App{Args: []string{"test", "g/", "--parallel", "16"}, Environ: crowd.environ,
				Dir: crowd.home, Stdin: strings.NewReader(""), Stdout: &out, Stderr: io.Discard}
			if code := app.Main(ctx); code != 0 || !strings.Contains(out.String(), "1000 connected, 0 failed") {
				t.Fatalf("exit %d\n%.2000s", code, out.String())
			}
		})
	}
	// The test's own statement, and those by which the facts are asked for.
	statements := []string{"select 1", `select pg_catalog.current_setting('server_version'), session_user, current_user,
		pg_catalog.current_database(), cast(pg_catalog.inet_client_addr() as text), pg_catalog.pg_backend_pid(),
		pg_catalog.current_setting('is_superuser') = 'on',
		pg_catalog.current_setting('transaction_read_only') = 'on' or pg_catalog.pg_is_in_recovery(), pg_catalog.pg_is_in_recovery()`,
		`select cast(system_identifier as text) from pg_catalog.pg_control_system()`}
	bareCrowd := func() time.Duration {
		return clocked(func() {
			var group errgroup.Group
			group.SetLimit(16)
			for range 1000 {
				group.Go(func() error {
					conn, err := pgconn.ConnectConfig(ctx, config)
					if err != nil {
						return err
					}
					defer conn.Close(ctx)
					for _, statement := range statements {
						if _, err := conn.Exec(ctx, statement).ReadAll(); err != nil {
							return err
						}
					}
					return nil
				})
			}
			must(t, group.Wait())
		})
	}
	_, _ = crowded(), bareCrowd() // the first round is warmer for neither
	var cost [2][2]time.Duration  // of gharbor and of the bare driver: this process's, and the server's
	counted := func(i int, work func() time.Duration) func() time.Duration {
		return func() time.Duration {
			ours, theirs := spent(t, postmaster)
			took := work()
			time.Sleep(200 * time.Millisecond) // the server counts sessions that it has seen end
			ours2, theirs2 := spent(t, postmaster)
			cost[i][0] += ours2 - ours
			cost[i][1] += theirs2 - theirs
			return took
		}
	}
	const rounds = 9
	ours, theirs := median(rounds, counted(0, crowded), counted(1, bareCrowd))
	benchRatio(t, "1,000 profiles at `--parallel 16`, against the bare driver's connect and the same statements at 16",
		ours, theirs, 1.1, 0)
	for i, name := range []string{"gharbor", "the bare driver"} {
		fmt.Printf("\nProcessor time of 1,000 with %s: %d ms of its own, %d ms of the server's\n", name,
			(cost[i][0] / rounds).Milliseconds(), (cost[i][1] / rounds).Milliseconds())
	}
	time.Sleep(300 * time.Millisecond)
	if after := open(); after > before+2 {
		t.Errorf("%d files are open that were not before", after-before)
	}
	whole := crowd.must(0, "test", "g/", "--parallel", "16")
	fmt.Printf("\nMemory of the whole process at 1,000 profiles: %d MB (bar: 200 MB)\n", whole.peak>>20)
	if whole.peak > 200<<20 {
		t.Errorf("%d MB", whole.peak>>20)
	}
}

// TestBenchRows prints a million rows as CSV, against the bare driver that writes the same.
func TestBenchRows(t *testing.T) {
	measured(t)
	ctx := context.Background()
	pg := realPostgres(t)
	config := bareConfig(t, pg.port)
	const statement = "select n, 'Greystone ' || n, n * 1.25, n % 7 = 0, null from generate_series(1, 1000000) n"
	w := newWorld(t, "PW="+canary)
	p := w.save("p", "postgres", pg.warden()...)
	ours, theirs := filepath.Join(w.home, "ours.csv"), filepath.Join(w.home, "theirs.csv")
	var peak int64
	gharborRows := func() time.Duration {
		out, err := os.Create(ours)
		must(t, err)
		defer out.Close()
		cmd := w.command("run", p, statement, "--as", "csv")
		cmd.Stdout = out
		return clocked(func() {
			must(t, cmd.Run())
			peak = max(peak, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
		})
	}
	bareRows := func() time.Duration {
		return clocked(func() {
			out, err := os.Create(theirs)
			must(t, err)
			defer out.Close()
			conn, err := pgconn.ConnectConfig(ctx, config)
			must(t, err)
			defer conn.Close(ctx)
			rows := conn.ExecParams(ctx, statement, nil, nil, nil, nil)
			to := csv.NewWriter(out)
			record := make([]string, 5)
			first := true
			for rows.NextRow() {
				if first {
					for i, field := range rows.FieldDescriptions() {
						record[i] = field.Name
					}
					must(t, to.Write(record))
					first = false
				}
				for i, value := range rows.Values() {
					record[i] = string(value)
				}
				must(t, to.Write(record))
			}
			_, err = rows.Close()
			must(t, err)
			to.Flush()
			must(t, to.Error())
		})
	}
	a, b := median(9, gharborRows, bareRows)
	benchRatio(t, "`run` of 1,000,000 rows to CSV, against the bare driver writing the same", a, b, 1.0, 0)
	one, err := os.ReadFile(ours)
	must(t, err)
	other, err := os.ReadFile(theirs)
	must(t, err)
	if text := strings.NewReplacer(",t,", ",true,", ",f,", ",false,").Replace(string(other)); text != string(one) {
		t.Errorf("the two files differ: %d and %d bytes", len(one), len(other))
	}
	fmt.Printf("\nMemory of the whole process at 1,000,000 rows: %d MB (bar: 64 MB)\n", peak>>20)
	if peak > 64<<20 {
		t.Errorf("%d MB", peak>>20)
	}
}
