package credentials

import (
	"fmt"
	"runtime"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"

	"golang.org/x/sync/errgroup"
)

// Match finds the entry of a credential file that serves for a target, without keeping the
// others. The error is a *finding.Problem: the file cannot be used, keeps nothing for the target,
// or has two entries that serve equally well.
func Match(path string, dest target.Target) (Entry, error) {
	data, err := read(path)
	if err != nil {
		return Entry{}, err
	}
	return MatchIn(data, path, dest)
}

// MatchIn is Match on a file's content; path is for its messages.
func MatchIn(data []byte, path string, dest target.Target) (Entry, error) {
	if len(data) == 0 {
		return Entry{}, scan(data, path, nil, nil)
	}
	parts := split(string(data), runtime.GOMAXPROCS(0))
	found := make([]matched, len(parts))
	var group errgroup.Group
	for i, each := range parts {
		group.Go(func() error {
			found[i] = each.match(path, dest)
			return nil
		})
	}
	_ = group.Wait()
	picker := secret.Picker{Target: dest}
	var best line
	for _, m := range found {
		if m.err != nil {
			return Entry{}, m.err
		}
		if id, kept, differs := m.picker.Near(); len(differs) > 0 {
			picker.Offer(id, &kept)
		}
		if id, serves := m.picker.Best(); serves {
			picker.Offer(id, &m.best.dest)
			if other, tied := m.picker.Tie(); tied {
				picker.Offer(other, &m.best.dest)
			}
			if now, _ := picker.Best(); now == id {
				best = m.best
			}
		}
	}
	if _, serves := picker.Best(); !serves {
		return Entry{}, picker.Missing("the credential file "+path, "credential file "+path)
	}
	if other, tied := picker.Tie(); tied {
		return Entry{}, &finding.Problem{Code: finding.SecretCredentialsTie,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s has two entries that serve %s at %s "+
				"equally well, in the lines %d and %d.",
				path, dest.User, dest.Place(), best.number, other)}}
	}
	return best.decode(path)
}

// matched is what a part of a file has for a target.
type matched struct {
	picker secret.Picker
	best   line
	err    error
}

func (p part) match(path string, dest target.Target) matched {
	m := matched{picker: secret.Picker{Target: dest}}
	m.err = scanPart(p, path, nil, func(l *line) error {
		m.picker.Offer(l.number, &l.dest)
		if id, found := m.picker.Best(); found && id == l.number {
			m.best = *l
		}
		if l.text == "" || l.text[0] != '"' || target.IsSimple(l.text) {
			return nil
		}
		_, err := l.decode(path) // a mistake in any line is a mistake in the file
		return err
	})
	return m
}

// split cuts a large file into parts that can be read side by side.
func split(text string, most int) []part {
	const least = 128 << 10
	parts := []part{{text: text}}
	for n := min(most, len(text)/least); n > 1; n-- {
		last := &parts[len(parts)-1]
		size := len(last.text) / n
		cut := strings.Index(last.text[size:], "\nat ")
		if cut < 0 {
			break
		}
		cut += size + 1
		next := part{last.text[cut:], last.offset + cut, last.line + strings.Count(last.text[:cut], "\n")}
		last.text = last.text[:cut]
		parts = append(parts, next)
	}
	return parts
}
