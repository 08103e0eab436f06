package mysql

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// framed puts a header before each body; bodies are hex where they begin so, such as "x:00ff".
func framed(bodies ...string) []byte {
	var b bytes.Buffer
	for i, body := range bodies {
		if digits, is := strings.CutPrefix(body, "x:"); is {
			data, err := hex.DecodeString(strings.ReplaceAll(digits, " ", ""))
			if err != nil {
				panic(err)
			}
			body = string(data)
		}
		b.Write([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), byte(i + 1)})
		b.WriteString(body)
	}
	return b.Bytes()
}

// sizes gives packets of zeros of some sizes.
func sizes(sizes ...int) []byte {
	var b bytes.Buffer
	for i, size := range sizes {
		b.Write([]byte{byte(size), byte(size >> 8), byte(size >> 16), byte(i)})
		b.Write(make([]byte, size))
	}
	return b.Bytes()
}

// TestMessages follows packets, however the reads cut them: messages within their bound pass,
// also many of them, and one that is over it does not.
func TestMessages(t *testing.T) {
	for about, each := range map[string]struct {
		sizes []int
		over  bool
	}{
		"small ones":             {[]int{1, 0, 100, 7}, false},
		"at the bound":           {[]int{5, full, 1000}, false},
		"one byte more":          {[]int{5, full, 1001}, true},
		"one that goes on twice": {[]int{full, full, 0}, true},
		"a whole one and others": {[]int{full, 0, full, 0, 1000, full, 1000}, false},
	} {
		for _, way := range []func(io.Reader) io.Reader{iotest.DataErrReader, iotest.HalfReader} {
			data := sizes(each.sizes...)
			p := packets{from: bufio.NewReaderSize(way(bytes.NewReader(data)), 64<<10), most: full + 1000, phase: rows}
			got, err := io.ReadAll(&p)
			var problem *finding.Problem
			if errors.As(err, &problem) != each.over || problem != nil && problem.Code != finding.QueryTooLarge {
				t.Errorf("%s: %v", about, err)
			}
			if !each.over && !bytes.Equal(got, data) {
				t.Errorf("%s: %d bytes instead of %d", about, len(got), len(data))
			}
			if _, again := p.Read(make([]byte, 1)); each.over && again != err {
				t.Errorf("%s: it goes on", about)
			}
		}
	}
}

// column is a definition; extension is MariaDB's part.
func column(name, extension string) string {
	text := func(s string) string { return string(rune(len(s))) + s }
	return text("def") + text("") + text("t") + text("t") + text(name) + text(name) + extension +
		"\x0c\x2d\x00\xff\x00\x00\x00\xfc\x10\x00\x00\x00\x00"
}

// TestPackets follows whole answers, in every way that reads can cut them. What the driver gets
// is the same without the extension.
func TestPackets(t *testing.T) {
	extension := "\x06\x01\x04json"
	for about, c := range map[string]struct {
		command       byte
		noEOF, tracks bool
		extends       bool
		from, to      []byte // "to" nil: as it came
		last          answer
		fields        int
		json          bool
		changed       string
		phase         phase
	}{
		"OK": {command: 3, from: framed("x:00 03 00 0200 0100"), last: answer{3, 2, 1, ""}},
		"OK with words": {command: 3,
			from: framed("x:00 fcff00 00 0300 0000" + hex.EncodeToString([]byte("Records: 3"))),
			last: answer{255, 3, 0, "Records: 3"}},
		"OK with changes": {command: 3, tracks: true,
			from: framed("x:00 00 00 0240 0000 00 0b 01 03 02 6874 00 04 01 61 01 62"),
			last: answer{0, 0x4002, 0, ""}, changed: "map[:ht a:b]"},
		"an error": {command: 3, from: framed("x:ff 2804 23 3432303030 6e6f")},
		"rows, older": {command: 3,
			from: framed("x:01", column("a", ""), "x:fe 0000 2200", "x:01 31", "x:fb", "x:fe 0200 2200"),
			last: answer{0, 0x22, 2, ""}, fields: 1},
		"rows, newer": {command: 3, noEOF: true,
			from: framed("x:02", column("a", ""), column("b", ""), "x:01 31 01 32", "x:fe 00 00 2200 0100"),
			last: answer{0, 0x22, 1, ""}, fields: 2},
		"rows with an extension": {command: 3, noEOF: true, extends: true,
			from: framed("x:01", column("a", extension), "x:01 31", "x:fe 00 00 2200 0000"),
			to:   framed("x:01", column("a", ""), "x:01 31", "x:fe 00 00 2200 0000"),
			last: answer{0, 0x22, 0, ""}, fields: 1, json: true},
		"rows that end in an error": {command: 3, noEOF: true,
			from: framed("x:01", column("a", ""), "x:01 31", "x:ff 2804 23 3432303030 6e6f"), fields: 1},
		"two results": {command: 3, noEOF: true,
			from: framed("x:01", column("a", ""), "x:fe 00 00 0a00 0000", "x:02", column("b", ""),
				column("c", ""), "x:fe 00 00 0a00 0000", "x:00 05 00 0200 0000"), last: answer{5, 2, 0, ""}, fields: 2},
		"a result is still to come": {command: 3, noEOF: true, from: framed("x:00 05 00 0a00 0000"),
			last: answer{5, 10, 0, ""}, phase: first},
		"prepared": {command: commandPrepare, noEOF: true, extends: true,
			from: framed("x:00 01000000 0100 0200 00 0000", column("?", ""), column("?", extension),
				column("a", extension)),
			to: framed("x:00 01000000 0100 0200 00 0000", column("?", ""), column("?", ""), column("a", ""))},
		"prepared, older": {command: commandPrepare,
			from: framed("x:00 01000000 0000 0100 00 0000", column("?", ""), "x:fe 0000 0200")},
		"binary rows": {command: commandExecute, noEOF: true,
			from: framed("x:01", column("a", ""), "x:00 00 01 31", "x:00 fe 01", "x:fe 00 00 2200 0000"),
			last: answer{0, 0x22, 0, ""}, fields: 1},
		"a file is asked for":   {command: 3, from: framed("x:fb 61", "x:ff 2804 23 3432303030 6e6f")},
		"words before anything": {command: 0, from: framed("x:ff 2804 23 3432303030 6e6f")},
		"a first cell as long as one": {command: 3, noEOF: true,
			from: append(framed("x:01", column("a", "")), sizes(full, 3)...), fields: 1, phase: rows},
	} {
		for cut, way := range map[string]func(io.Reader) io.Reader{"whole": func(r io.Reader) io.Reader {
			return r
		}, "in halves": iotest.HalfReader, "byte by byte": iotest.OneByteReader} {
			if cut == "byte by byte" && len(c.from) > 1<<20 {
				continue
			}
			p := packets{from: bufio.NewReaderSize(way(bytes.NewReader(c.from)), 64<<10), noEOF: c.noEOF,
				tracks: c.tracks, extends: c.extends}
			if c.command != 0 {
				p.sent([]byte{1, 0, 0, 0, c.command})
			}
			got, err := io.ReadAll(&p)
			want := c.to
			if want == nil {
				want = c.from
			}
			if err != nil || !bytes.Equal(got, want) {
				t.Errorf("%s, %s: %v\n%q instead of\n%q", about, cut, err, got[:min(len(got), 200)], want[:min(len(want), 200)])
			}
			if p.last != c.last || len(p.fields) != c.fields || p.phase != c.phase ||
				len(p.fields) > 0 && p.fields[0].json != c.json {
				t.Errorf("%s, %s: %+v, %+v, phase %d", about, cut, p.last, p.fields, p.phase)
			}
			if changed := fmt.Sprint(p.changed); c.changed != "" && changed != c.changed {
				t.Errorf("%s: %s", about, changed)
			}
		}
	}
}

// TestPacketsMalformed gives the follower what no server says.
func TestPacketsMalformed(t *testing.T) {
	for about, from := range map[string][]byte{
		"columns without a number":    framed("x:fc 01"),
		"too many columns":            framed("x:fd ffffff"),
		"no columns":                  framed("x:fe 00 00 00 00 00 00 00 00"),
		"a definition that ends":      framed("x:01", "x:03 6465"),
		"a definition without an end": framed("x:01", strings.Repeat("\x00", 6)),
		"an OK that ends":             framed("x:00 00"),
		"a long definition":           append(framed("x:01"), sizes(mostDefinition+1)...),
		"many of them":                append(framed("x:fd 002000"), bytes.Repeat(sizes(mostDefinition), 17)...),
		"rows without an end of them": framed("x:01", column("a", ""), "x:01 31"),
	} {
		p := packets{from: bufio.NewReaderSize(bytes.NewReader(from), 64<<10)}
		p.sent([]byte{1, 0, 0, 0, 3})
		_, err := io.ReadAll(&p)
		var problem *finding.Problem
		if !errors.As(err, &problem) || problem.Code != finding.GreetingMalformed {
			t.Errorf("%s: %v", about, err)
		}
	}
}

// TestLocalFile sends the file that a statement names when the server asks for it, and no other
// one; the driver hears nothing of it.
func TestLocalFile(t *testing.T) {
	request, ok, no := "\x02\x00\x00\x01\xfba", "\x07\x00\x00\x04\x00\x03\x00\x02\x00\x00\x00", "\x09\x00\x00\x04\xff\x28\x04#42000"
	long := strings.Repeat("x", filePiece)
	for about, c := range map[string]struct {
		local    *engine.LocalFile
		from     string
		to, want string
		fails    bool
	}{
		"the file": {&engine.LocalFile{Name: "a", From: strings.NewReader("rows\n")},
			request + ok, "\x05\x00\x00\x02rows\n\x00\x00\x00\x03", "\x07\x00\x00\x01" + ok[4:], false},
		"the file, and a refusal": {&engine.LocalFile{Name: "a",
			From: iotest.OneByteReader(strings.NewReader("rows\n"))}, request + no,
			"\x05\x00\x00\x02rows\n\x00\x00\x00\x03", "\x09\x00\x00\x01" + no[4:], false},
		"an empty one": {&engine.LocalFile{Name: "a", From: strings.NewReader("")},
			request + "\x07\x00\x00\x03" + ok[4:], "\x00\x00\x00\x02", "\x07\x00\x00\x01" + ok[4:], false},
		"a long one": {&engine.LocalFile{Name: "a", From: strings.NewReader(long + "y")},
			request + "\x07\x00\x00\x05" + ok[4:],
			"\x00\x00\x04\x02" + long + "\x01\x00\x00\x03y\x00\x00\x00\x04", "\x07\x00\x00\x01" + ok[4:], false},
		"another one": {&engine.LocalFile{Name: "b", From: strings.NewReader("rows")}, request + ok,
			"", request + ok, false},
		"none": {nil, request + ok, "", request + ok, false},
		"twice": {&engine.LocalFile{Name: "a", From: strings.NewReader("rows\n")},
			request + "\x02\x00\x00\x04\xfba", "\x05\x00\x00\x02rows\n\x00\x00\x00\x03",
			"\x02\x00\x00\x01\xfba", false},
		"one that cannot be read": {&engine.LocalFile{Name: "a", From: iotest.ErrReader(io.ErrClosedPipe)},
			request + ok, "", "", true},
	} {
		var to bytes.Buffer
		p := packets{from: bufio.NewReaderSize(strings.NewReader(c.from), 64<<10), to: &to, local: c.local}
		p.sent([]byte{1, 0, 0, 0, 3})
		got, err := io.ReadAll(&p)
		if (err != nil) != c.fails || string(got) != c.want || to.String() != c.to {
			t.Errorf("%s: %v\n%q instead of %q\nsent %.60q instead of %.60q", about, err, got, c.want, to.String(), c.to)
		}
	}
}

// TestTyped gives parameters the types that the driver does not have.
func TestTyped(t *testing.T) {
	packet := append([]byte{21, 0, 0, 0, commandExecute, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}, "\xfe\x00\x08\x00\xfe\x00ab"...)
	before := bytes.Clone(packet)
	p := packets{types: []byte{typeDecimal, 0, typeBlob}}
	got := p.sent(packet)
	if string(got[16:]) != "\xf6\x00\x08\x00\xfc\x00ab" || !bytes.Equal(packet, before) {
		t.Errorf("%x", got)
	}
	if got := p.sent(packet[:20]); !bytes.Equal(got, packet[:20]) {
		t.Errorf("a short one became %x", got)
	}
}

// FuzzPackets has the follower read anything: it ends, and takes no more memory than the bounds
// allow.
func FuzzPackets(f *testing.F) {
	f.Add(framed("x:01", column("a", "\x06\x01\x04json"), "x:01 31", "x:fe 00 00 2200 0000"), byte(3), true)
	f.Add(framed("x:00 00 00 0240 0000 00 0b 01 03 02 6874 00 04 01 61 01 62"), byte(3), true)
	f.Add(framed("x:00 01000000 0100 0200 00 0000", column("?", ""), column("?", ""), column("a", "")),
		byte(commandPrepare), false)
	f.Fuzz(func(t *testing.T, data []byte, command byte, newer bool) {
		p := packets{from: bufio.NewReaderSize(iotest.HalfReader(bytes.NewReader(data)), 64<<10), noEOF: newer,
			tracks: newer, extends: newer, most: 1 << 20}
		p.sent([]byte{1, 0, 0, 0, command})
		got, _ := io.ReadAll(&p)
		if len(got) > len(data) {
			t.Errorf("%d bytes became %d", len(data), len(got))
		}
	})
}
