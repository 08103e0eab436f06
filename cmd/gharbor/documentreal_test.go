//go:build unix

package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/realtest"
)

// otherDocuments builds a document server of other people's making, in its own module, and starts
// it. It gives where it listens.
func otherDocuments(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	data := filepath.Join(folder, "data")
	must(t, os.Mkdir(data, 0o700))
	server := exec.Command(realtest.Built(t, "testdata/documentserver"), data)
	server.Dir = folder
	out, err := server.StdoutPipe()
	must(t, err)
	must(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	uri, err := bufio.NewReader(out).ReadString('\n')
	must(t, err)
	return strings.TrimSuffix(strings.TrimSpace(uri), "/")
}

// TestDocumentServerOfOthers meets a real server that speaks the protocol: what the practice
// server says of it is not only what this program believes.
func TestDocumentServerOfOthers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	uri := otherDocuments(t)
	p := w.save("p", "mongodb", uri+"/bunkhouse", "--secret", "none")
	has(t, w.must(0, "test", p).out, "a MongoDB server by itself", "bunkhouse is not there yet",
		"a statement made the round trip", "this server lets everybody in")
	var list []string
	for i := range 300 {
		list = append(list, fmt.Sprintf(`{"_id": %d, "name": "Hut %d", "height": %d, "at": {"$date": "2026-11-20T00:00:00Z"}, "beds": {"$numberLong": "12"}}`,
			i, i, 400+i))
	}
	w.must(0, "run", p, "--from", w.write("in.json", `{"insert": "hut", "documents": [`+strings.Join(list, ",")+"]}"))
	has(t, w.must(0, "test", p).out, "bunkhouse is open")
	for _, c := range []struct {
		args      []string
		exit      int
		out, says string
	}{
		{[]string{`{"ping": 1}`}, 0, "Done.\n", ""},
		{[]string{`{"count": "hut"}`, "--as", "bare"}, 0, "300\n", ""},
		{[]string{`{"find": "hut", "filter": {"height": {"$gte": {{least}}}}, "sort": {"_id": 1}, "limit": 1}`,
			"--let", "least:integer=699", "--as", "csv"}, 0,
			"_id,name,height,at,beds\n299,Hut 299,699,2026-11-20T00:00:00Z,12\n", ""},
		{[]string{`{"find": "hut", "filter": {"at": {{at}}}, "limit": 1, "projection": {"name": 1}}`,
			"--let", "at:date=2026-11-20", "--as", "jsonl", "--exact"}, 0,
			"{\"_id\":{\"$numberInt\":\"0\"},\"name\":\"Hut 0\"}\n", ""},
		{[]string{`{"find": "hut", "filter": {"name": {{name}}}}`, "--let", `name={"$gt": ""}`, "--as", "csv"},
			0, "document\n", ""},
		{[]string{`{"aggregate": "hut", "pipeline": [{"$match": {"height": {"$lt": 410}}}, {"$count": "low"}], "cursor": {}}`,
			"--as", "bare", "--guard", "read-only"}, 0, "10\n", ""},
		{[]string{`{"update": "hut", "updates": [{"q": {"_id": 1}, "u": {"$set": {"height": 1}}}]}`}, 0,
			"1 row changed\n", ""},
		{[]string{`{"insert": "hut", "documents": [{"_id": 1000}, {"_id": 1}]}`}, 7, "", "query.constraint"},
		{[]string{`{"delete": "hut", "deletes": [{"q": {"_id": 1000}, "limit": 1}]}`}, 0, "1 row changed\n", ""},
		{[]string{`{"unheard": 1}`}, 7, "", "query.syntax"},
	} {
		r := w.run(append([]string{"run", p}, c.args...)...)
		if r.code != c.exit || c.out != "" && r.out != c.out || !strings.Contains(r.err, c.says) {
			t.Errorf("%v: exit %d\n%s%s", c.args, r.code, r.out, r.err)
		}
	}
	if got := w.must(0, "run", p, `{"find": "hut", "batchSize": 7}`, "--as", "jsonl").out; strings.Count(got,
		"\n") != 300 {
		t.Errorf("%d documents", strings.Count(got, "\n"))
	}
	has(t, w.must(0, "survey", p, "databases").out, "bunkhouse")
	has(t, w.must(0, "survey", p, "tables").out, "bunkhouse  hut")
	d, _, _ := w.open(p)
	if got, err := withTheirs(d.URI); err != nil || got != "Hut 1 1 of 300" {
		t.Errorf("through a door: %q, %v", got, err)
	}
	w.must(0, "run", p, `{"drop": "hut"}`)
	has(t, w.must(0, "run", p, `{"find": "hut"}`).err, "0 rows")
}
