//go:build unix

package main

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
)

// TestBenchLoad measures a million rows of a file that go into a table, against the engine's own
// way by the bare driver, which takes the file as it is; and a file of a million rows whose last
// one does not fit.
func TestBenchLoad(t *testing.T) {
	measured(t)
	const rows = 1_000_000
	for _, name := range []string{"postgres", "mariadb"} {
		s := realServer(t, name)
		w := newWorld(t, "PW="+canary)
		p := w.save("p", name, s.warden()...)
		w.must(0, "run", p, "create table loaded (n int, name varchar(60), height int)")
		made := func(name, last string) string {
			path := filepath.Join(w.home, name)
			file, err := os.Create(path)
			must(t, err)
			to := bufio.NewWriter(file)
			fmt.Fprintln(to, "n,name,height")
			for n := range rows - 1 {
				fmt.Fprintf(to, "%d,\"Greystone, %d of the \"\"long\"\" list\",%d\n", n, n, n%3000)
			}
			fmt.Fprintln(to, last)
			must(t, to.Flush())
			must(t, file.Close())
			return path
		}
		file, broken := made("rows.csv", "1,last,2"), made("broken.csv", "1,last,high")
		var peak int64
		load := func() time.Duration {
			w.must(0, "run", p, "truncate table loaded")
			cmd := w.command("load", p, "loaded", file)
			return clocked(func() {
				if out, err := cmd.CombinedOutput(); err != nil {
					t.Fatalf("%v\n%s", err, out)
				}
				peak = max(peak, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
			})
		}
		bare := func() time.Duration {
			w.must(0, "run", p, "truncate table loaded")
			if name == "postgres" {
				conn := barePostgres(t, s, "bunkhouse")
				return clocked(func() {
					from, err := os.Open(file)
					must(t, err)
					_, err = conn.CopyFrom(t.Context(), from, "copy loaded from stdin (format csv, header)")
					must(t, err)
				})
			}
			db := bareMariaDB(t, s, func(c *mysql.Config) { c.AllowAllFiles = true })
			return clocked(func() {
				_, err := db.ExecContext(t.Context(),
					"load data local infile '"+file+"' into table loaded character set utf8mb4 fields "+
						"terminated by ',' optionally enclosed by '\"' escaped by '' ignore 1 lines")
				must(t, err)
			})
		}
		a, b := median(5, load, bare)
		benchRatio(t, "`load` of 1,000,000 rows of CSV, against the engine's own copy of the file by the "+
			"bare driver ("+name+")",
			a, b, 1.3, 0)
		fmt.Printf("Memory of the whole process at 1,000,000 rows of `load` (%s): %d MB (bar: 64 MB)\n", name, peak>>20)
		if peak > 64<<20 {
			t.Errorf("%s: %d MB", name, peak>>20)
		}
		w.must(0, "run", p, "truncate table loaded")
		r := w.must(7, "load", p, "loaded", broken)
		has(t, r.err, fmt.Sprintf("broken.csv, line %d was not taken: the column height has \"high\"", rows+1))
		if got := w.must(0, "run", p, "select count(*) from loaded", "--as", "bare").out; got != "0\n" {
			t.Errorf("%s: %q", name, got)
		}
		fmt.Printf("`load` of a file whose last row of 1,000,000 does not fit (%s): named after %s\n", name,
			r.took.Round(time.Millisecond))
	}
}
