package survey

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
)

// Right is a line of a list of rights: names, and nothing that is stored under them.
type Right struct{ User, May, On, From, But string }

// Remembered are the rights of a user as they were listed.
type Remembered struct {
	When   time.Time `json:"when"`
	Rights []Right   `json:"rights"`
}

// Memory remembers lists of rights, in a folder with a file for each.
type Memory struct{ Dir string }

// About says what rights a list is of: the server by its own identity, the database, the account
// that asked, and the user whose rights they are.
type About struct{ Server, Database, Asked, Of, System string }

// mostRemembered bounds a file, in bytes.
const mostRemembered = 16 << 20

// ErrTooMany is the error of a list that is too long to be remembered.
var ErrTooMany = errors.New("the list is too long to be remembered")

func (m Memory) file(about About) string {
	name, _ := json.Marshal(about)
	sum := sha256.Sum256(name)
	return filepath.Join(m.Dir, hex.EncodeToString(sum[:12])+".json")
}

// Last gives the list that was remembered last, nil for none.
func (m Memory) Last(about About) (*Remembered, error) {
	data, err := files.ReadOwn(m.file(about), mostRemembered)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var last Remembered
	if json.Unmarshal(data, &last) != nil || last.When.IsZero() {
		return nil, nil // it is written anew
	}
	return &last, nil
}

// Keep remembers a list instead of the one before.
func (m Memory) Keep(about About, now Remembered) error {
	data, err := json.Marshal(now)
	if err != nil {
		return err
	}
	if len(data) > mostRemembered {
		return ErrTooMany
	}
	return files.Write(m.file(about), data, 0o600)
}

// Compare gives the rights that were added and those that were taken, each in lines as a list has
// them.
func Compare(before, now []Right) (added, taken []Right) {
	return beyond(now, before), beyond(before, now)
}

// beyond gives what of a list is not in another one, right by right.
func beyond(list, other []Right) (more []Right) {
	had := map[Right]bool{}
	for _, r := range other {
		for may := range strings.SplitSeq(r.May, ", ") {
			one := r
			one.May = may
			had[one] = true
		}
	}
	for _, r := range list {
		var left []string
		for may := range strings.SplitSeq(r.May, ", ") {
			one := r
			if one.May = may; !had[one] {
				left = append(left, may)
			}
		}
		if left != nil {
			r.May = strings.Join(left, ", ")
			more = append(more, r)
		}
	}
	return more
}

// mostLines bounds a list that is remembered.
const mostLines = 200_000

// Rights collects a list of rights.
type Rights struct {
	List []Right
	// Over says that the list is too long to be remembered, or compared; List is empty then.
	Over   bool
	places []int
}

// rightColumns are the columns of a list of rights.
var rightColumns = []string{"user", "may", "on", "from", "but"}

// Columns implements engine.Rows.
func (r *Rights) Columns(columns []engine.Column) error {
	for _, name := range rightColumns {
		r.places = append(r.places, slices.IndexFunc(columns, func(c engine.Column) bool { return c.Name == name }))
	}
	return nil
}

// Row implements engine.Rows.
func (r *Rights) Row(cells []engine.Cell) error {
	if r.Over = r.Over || len(r.List) == mostLines; r.Over {
		r.List = nil
		return nil
	}
	var one Right
	for i, to := range []*string{&one.User, &one.May, &one.On, &one.From, &one.But} {
		if at := r.places[i]; at >= 0 {
			*to = cells[at].Text
		}
	}
	r.List = append(r.List, one)
	return nil
}

// Bytes implements engine.Rows.
func (*Rights) Bytes([]byte) error { return engine.Malformed("data instead of rows") }

// Show gives what was added and what was taken to out, as a list with the column change before
// the others.
func Show(added, taken []Right, out engine.Rows) error {
	columns := []engine.Column{{Name: "change", Kind: engine.Text}}
	for _, name := range rightColumns {
		columns = append(columns, engine.Column{Name: name, Kind: engine.Text})
	}
	if err := out.Columns(columns); err != nil {
		return err
	}
	for _, part := range []struct {
		change string
		list   []Right
	}{{"added", added}, {"taken", taken}} {
		for _, r := range part.list {
			cells := []engine.Cell{{Text: part.change}, {Text: r.User}, {Text: r.May}, {Text: r.On},
				{Text: r.From}, {Text: r.But}}
			if err := out.Row(cells); err != nil {
				return err
			}
		}
	}
	return nil
}
