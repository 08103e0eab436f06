package checkup

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// Past is one test that was made. It holds no secret, only where one came from.
type Past struct {
	When     time.Time          `json:"when"`
	OK       bool               `json:"ok"`
	Code     finding.Code       `json:"code,omitempty"`
	MS       float64            `json:"ms"`
	Legs     map[string]float64 `json:"legs"` // milliseconds
	Settings map[string]string  `json:"settings"`
	Address  string             `json:"address,omitempty"`
	Identity string             `json:"identity,omitempty"` // the server's own
	Version  string             `json:"version,omitempty"`
	Account  string             `json:"account,omitempty"`
	Super    bool               `json:"superuser,omitempty"`
	// Container is which container it was, as a definition (target.Definition); "" for none.
	Container string `json:"container,omitempty"`
	// Finding is what a failed test meant, nil for a good one and in lines of before it was kept.
	Finding *finding.Finding `json:"finding,omitempty"`
	// Once says that flags or variables of that run changed the profile, so that it is no test of
	// what the file says.
	Once bool `json:"once,omitempty"`
}

// kept names the settings whose values a Past keeps: those that decide the server and the user.
var kept = []string{"engine", "host", "port", "socket", "alias", "container", "cloud", "database", "user",
	"role", "secret", "tls.mode", "tls.ca", "tls.cert", "tls.server-name", "timeout.leg"}

// Remember makes a Past of a report.
func Remember(p profile.Effective, r *Report, when time.Time) Past {
	past := Past{When: when.UTC().Truncate(time.Millisecond), OK: r.OK, Code: r.Code(), MS: r.MS,
		Legs: map[string]float64{}, Settings: map[string]string{}}
	for _, leg := range r.Legs {
		if leg.OK != nil {
			past.Legs[leg.Name] = leg.MS
		}
	}
	for name, v := range p.Values {
		past.Once = past.Once || v.Origin.Layer == profile.LayerFlag || v.Origin.Layer == profile.LayerEnvironment
		if slices.Contains(kept, name) {
			past.Settings[name] = v.Text
		}
	}
	if r.Finding != nil {
		past.Finding = short(*r.Finding)
	}
	if n := len(r.Attempts); n > 0 {
		past.Address = r.Attempts[n-1].Address
	}
	past.Container = r.Found.String()
	if s := r.Server; s != nil {
		past.Identity, past.Version, past.Account = s.Identity, s.Product+" "+s.Version, s.Account
		past.Super = s.Superuser != nil && *s.Superuser
	}
	return past
}

// Bounds of what a line of a history keeps of a finding: lines of evidence, remedies, and
// characters of each.
const (
	mostSeen  = 12
	mostTry   = 6
	mostWords = 300
)

// short gives a finding as a history keeps it. Its texts are clean, and masked as those of the
// report are.
func short(f finding.Finding) *finding.Finding {
	cut := func(text string) string {
		if runes := []rune(text); len(runes) > mostWords {
			return string(runes[:mostWords]) + "…"
		}
		return text
	}
	kept := &finding.Finding{Code: f.Code, Leg: f.Leg, Cause: cut(f.Cause), Seen: []string{}, Try: []finding.Remedy{}}
	for _, line := range f.Seen[:min(len(f.Seen), mostSeen)] {
		kept.Seen = append(kept.Seen, cut(line))
	}
	for _, remedy := range f.Try {
		if text := remedy.String(); len(kept.Try) < mostTry && len([]rune(text)) <= mostWords { // half a command helps nobody
			kept.Try = append(kept.Try, finding.Remedy{Say: text})
		}
	}
	return kept
}

// Told gives what a failed test meant: the finding that was kept, else what the code means in
// general.
func (past Past) Told() finding.Finding {
	if past.Finding != nil {
		return *past.Finding
	}
	f := finding.Finding{Code: past.Code, Leg: past.Code.Leg(), Cause: "What it meant was not recorded at that time."}
	if entry, known := finding.Lookup(past.Code); known {
		f.Cause = entry.General()
		for _, remedy := range entry.Try {
			f.Try = append(f.Try, finding.Remedy{Say: remedy.InWords()})
		}
	}
	return f
}

// Differs says in sentences what is different now from what it was in past: settings, and what a
// good test saw.
func (past Past) Differs(now Past) []string {
	var lines []string
	for _, name := range kept {
		if a, b := past.Settings[name], now.Settings[name]; a != b {
			lines = append(lines, fmt.Sprintf("%s was %s, and is %s", strings.ReplaceAll(name, ".", " "), orNone(a), orNone(b)))
		}
	}
	if past.Address != "" && now.Address != "" && past.Address != now.Address &&
		past.Settings["host"] == now.Settings["host"] && past.Settings["port"] == now.Settings["port"] {
		lines = append(lines, fmt.Sprintf("the name led to %s, and leads to %s", past.Address, now.Address))
	}
	if now.OK {
		for _, pair := range [][3]string{{"the server's identity", past.Identity, now.Identity},
			{"the server", past.Version, now.Version}, {"the account", past.Account, now.Account}} {
			if pair[1] != "" && pair[2] != "" && pair[1] != pair[2] {
				lines = append(lines, fmt.Sprintf("%s was %s, and is %s", pair[0], pair[1], pair[2]))
			}
		}
	}
	return lines
}

func orNone(text string) string {
	if text == "" {
		return "not set"
	}
	return text
}

// History is a folder of what was tested, a file of JSON lines for each profile's file.
type History struct{ Dir string }

// maxHistory is how large a profile's history may grow; then the older half of it goes, but for
// the last good test, whose server is the known one: no number of failed tests makes it
// forgotten.
const maxHistory = 256 << 10

func (h History) file(profileFile string) string {
	sum := sha256.Sum256([]byte(profileFile))
	return filepath.Join(h.Dir, hex.EncodeToString(sum[:12])+".jsonl")
}

// Append adds a test of the profile that is kept in profileFile.
func (h History) Append(ctx context.Context, profileFile string, past Past) error {
	line, err := json.Marshal(past)
	if err != nil {
		return err
	}
	path := h.file(profileFile)
	// A lock for each of some groups of files, so that many tests side by side seldom wait for
	// each other.
	unlock, err := files.Lock(ctx, filepath.Join(h.Dir, ".lock-"+filepath.Base(path)[:2]))
	if err != nil {
		return err
	}
	defer unlock()
	if info, err := os.Stat(path); err == nil && info.Size()+int64(len(line)) > maxHistory {
		data, _, err := files.ReadOwnEnd(path, 2*maxHistory) // more is there only where others wrote: it goes
		if err != nil {
			return err
		}
		cut := len(data) / 2
		cut += bytes.IndexByte(data[cut:], '\n') + 1
		goes, stays := data[:cut], data[cut:]
		if n := len(stays); n > 0 && stays[n-1] != '\n' { // a crash left half of a line
			stays = append(stays, '\n')
		}
		shorter := lastGoodLine(goes, stays)
		return files.Write(path, append(append(append(shorter, stays...), line...), '\n'), 0o600)
	}
	file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if !whole(file) { // a crash left half of a line, which must not take this one with it
		line = append([]byte("\n"), line...)
	}
	_, err = file.Write(append(line, '\n'))
	if e := file.Close(); err == nil {
		err = e
	}
	return err
}

// lastGoodLine gives the line of the last good test of what goes, nil where what stays has one.
func lastGoodLine(goes, stays []byte) []byte {
	if _, _, has := lastGoodIn(stays); has {
		return nil
	}
	_, line, _ := lastGoodIn(goes)
	return line
}

// lastGoodIn gives the newest of a file's lines that is a good test of what the profile's files
// say.
func lastGoodIn(data []byte) (past Past, line []byte, has bool) {
	for rest := bytes.TrimSuffix(data, []byte("\n")); len(rest) > 0; {
		at := bytes.LastIndexByte(rest, '\n')
		var past Past
		if bytes.Contains(rest[at+1:], []byte("true")) && json.Unmarshal(rest[at+1:], &past) == nil &&
			!past.When.IsZero() && past.OK && !past.Once {
			past.clean()
			return past, append(bytes.Clone(rest[at+1:]), '\n'), true
		}
		rest = rest[:max(at, 0)]
	}
	return Past{}, nil, false
}

// whole reports whether a file ends with a line, or is empty.
func whole(file *os.File) bool {
	info, err := file.Stat()
	if err != nil || info.Size() == 0 {
		return true
	}
	var last [1]byte
	_, err = file.ReadAt(last[:], info.Size()-1)
	return err == nil && last[0] == '\n'
}

// Read gives the tests of a profile, the oldest first. Lines that are not whole, as a crash may
// leave one, are passed over.
func (h History) Read(profileFile string) ([]Past, error) {
	data, _, err := h.end(profileFile, 2*maxHistory)
	if err != nil {
		return nil, err
	}
	var list []Past
	for line := range bytes.Lines(data) {
		var past Past
		if json.Unmarshal(line, &past) == nil && !past.When.IsZero() {
			past.clean()
			list = append(list, past)
		}
	}
	return list, nil
}

// end gives the whole lines among the last n bytes of a history, none where there is none; all
// says that it has no others.
func (h History) end(profileFile string, n int64) (data []byte, all bool, err error) {
	data, all, err = files.ReadOwnEnd(h.file(profileFile), n)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, true, nil
	}
	if err == nil && !all {
		_, data, _ = bytes.Cut(data, []byte("\n"))
	}
	return data, all, err
}

// fewTests is how many bytes of a history are read first where its end is likely to do.
const fewTests = 8 << 10

// LastGood is the function [LastGood] of what [History.Read] gives: it reads the last lines
// alone, up to that test.
func (h History) LastGood(profileFile string) (Past, bool, error) {
	for _, n := range []int64{fewTests, 2 * maxHistory} {
		data, all, err := h.end(profileFile, n)
		if err != nil {
			return Past{}, false, err
		}
		if past, _, has := lastGoodIn(data); has || all {
			return past, has, nil
		}
	}
	return Past{}, false, nil
}

// Newest gives when the newest test was that tested what the profile's files say, and how it
// went; has is false where none is remembered. It reads the end of the history alone.
func (h History) Newest(profileFile string) (when time.Time, ok bool, code finding.Code, has bool, err error) {
	for _, n := range []int64{fewTests, 2 * maxHistory} {
		data, all, err := h.end(profileFile, n)
		if err != nil {
			return when, false, "", false, err
		}
		for rest := bytes.TrimSuffix(data, []byte("\n")); len(rest) > 0; {
			at := bytes.LastIndexByte(rest, '\n')
			var past struct {
				When time.Time    `json:"when"`
				OK   bool         `json:"ok"`
				Code finding.Code `json:"code"`
				Once bool         `json:"once"`
			}
			if json.Unmarshal(rest[at+1:], &past) == nil && !past.When.IsZero() && !past.Once {
				return past.When, past.OK, finding.Code(outside.Text(string(past.Code))), true, nil
			}
			rest = rest[:max(at, 0)]
		}
		if all {
			break
		}
	}
	return when, false, "", false, nil
}

// clean makes every text of a test that was read from a file fit to show: others may have written
// it.
func (past *Past) clean() {
	past.Code = finding.Code(outside.Text(string(past.Code)))
	for _, text := range []*string{&past.Address, &past.Identity, &past.Version, &past.Account} {
		*text = outside.Text(*text)
	}
	if past.Finding != nil {
		f := short(*past.Finding)
		f.Code, f.Leg, f.Cause = past.Code, outside.Text(f.Leg), outside.Cell(f.Cause)
		for i := range f.Seen {
			f.Seen[i] = outside.Cell(f.Seen[i])
		}
		f.Try = slices.DeleteFunc(f.Try, func(r finding.Remedy) bool { return !outside.Clean(r.Say) })
		past.Finding = f
	}
	legs := map[string]float64{}
	for name, ms := range past.Legs {
		legs[outside.Text(name)] = ms
	}
	settings := map[string]string{}
	for name, value := range past.Settings {
		settings[outside.Text(name)] = outside.Cell(value)
	}
	past.Legs, past.Settings = legs, settings
}

// Known says which profiles have a history, by their files, without reading any.
func (h History) Known() func(profileFile string) bool {
	entries, err := os.ReadDir(h.Dir)
	names := map[string]bool{}
	if err == nil {
		for _, entry := range entries {
			names[entry.Name()] = true
		}
	}
	return func(profileFile string) bool { return names[filepath.Base(h.file(profileFile))] }
}

// LastGood gives the newest test that passed, of those that tested what the profile's files say.
func LastGood(list []Past) (Past, bool) {
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].OK && !list[i].Once {
			return list[i], true
		}
	}
	return Past{}, false
}

// Changes says what was different at the first bad test after the last good one, of those that
// tested what the profile's files say. The list is never nil.
func Changes(list []Past) []string {
	lines := []string{}
	list = slices.DeleteFunc(slices.Clone(list), func(p Past) bool { return p.Once })
	for i := len(list) - 1; i > 0; i-- {
		if list[i-1].OK {
			if !list[i].OK {
				lines = append(lines, list[i-1].Differs(list[i])...)
			}
			break
		}
	}
	return lines
}
