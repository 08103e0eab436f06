package jump

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/target"
)

// Own is this program's file of known hosts: OpenSSH's format, with a first line that says how it
// is kept. A file without that line is of a version that learned what a hop announced even when
// only a certificate had proven the hop; what it learned so is not believed.
const ownFormat = "# gentle-harbor known-hosts 2"

// What the comment of a line in the own file begins with: a person accepted the key, or a known
// hop announced it.
const (
	noteAccepted  = "accepted"
	noteAnnounced = "announced"
)

// Bounds of what hops may make us learn by announcing keys: bytes of the file, and lines of one
// hop.
const (
	maxOwn     = 1 << 20
	maxLearned = 16
)

var errFull = errors.New("there is no room for more announced keys")

// ReadLearned adds the lines of the program's own file; see [HostKeys.Read].
func (k *HostKeys) ReadLearned(path string) error {
	data, err := files.ReadOwn(path, maxKnown)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	data, _ = believed(data)
	k.add(path, data)
	return nil
}

// believed gives the content of an own file in today's format, and how many lines that takes out
// of an older one.
func believed(data []byte) (content []byte, gone int) {
	if bytes.HasPrefix(data, []byte(ownFormat+"\n")) {
		return data, 0
	}
	content = append(content, ownFormat+"\n"...)
	for line := range bytes.Lines(data) {
		if known, ok := knownLine(string(line)); ok && strings.HasPrefix(known.Note, noteAnnounced) {
			gone++
			continue
		}
		content = append(content, line...)
	}
	return content, gone
}

// Renew takes out of an own file of an older version what is not believed any more, and gives how
// many keys they were. It does nothing to a file that has none of them.
func Renew(ctx context.Context, path string) (gone int, err error) {
	data, err := files.ReadOwn(path, maxKnown)
	if err != nil {
		return 0, nil // it is said where a hop needs it
	}
	if _, gone = believed(data); gone == 0 {
		return 0, nil
	}
	return gone, change(ctx, path, func(content []byte) ([]byte, error) { return content, nil })
}

// change writes an own file anew, in today's format.
func change(ctx context.Context, path string, edit func(content []byte) ([]byte, error)) error {
	unlock, err := files.Lock(ctx, path+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	data, err := files.ReadOwn(path, maxKnown)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	data, _ = believed(data)
	if data[len(data)-1] != '\n' {
		data = append(data, '\n')
	}
	if data, err = edit(data); err != nil {
		return err
	}
	return files.Write(path, data, os.FileMode(0o600))
}

// Line writes a host's key as a line of a file of known hosts.
func Line(name string, key ssh.PublicKey, note string) string {
	line := name + " " + strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(key)), "\n")
	if note != "" {
		line += " " + note
	}
	return line
}

// learn adds a line to the own file: a person has accepted the key.
func learn(ctx context.Context, path, line string) error {
	return change(ctx, path, func(content []byte) ([]byte, error) { return append(content, line+"\n"...), nil })
}

// learnAnnounced adds lines of a hop that it has announced, as far as there is room for them.
func learnAnnounced(ctx context.Context, path, name string, lines []string) error {
	return change(ctx, path, func(content []byte) ([]byte, error) {
		var keys HostKeys
		keys.add(path, content)
		there, err := keys.Of(name)
		if err != nil {
			return nil, err
		}
		room := maxLearned - len(there)
		for _, line := range lines {
			if room--; room < 0 || len(content)+len(line) >= maxOwn {
				return nil, errFull
			}
			content = append(content, line+"\n"...)
		}
		return content, nil
	})
}

// Lines gives all lines, in their order.
func (k HostKeys) Lines() []KnownKey { return slices.Collect(k.each(nil)) }

// Forget takes the lines of names out of the own file, and gives how many they were. Others stay
// as they are.
func Forget(ctx context.Context, path string, names []string) (gone int, err error) {
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	return gone, change(ctx, path, func(content []byte) ([]byte, error) {
		var kept []byte
		for line := range bytes.Lines(content) {
			known, ok := knownLine(string(line))
			if ok && slices.ContainsFunc(known.Hosts, func(host string) bool { return slices.Contains(names, host) }) {
				gone++
				continue
			}
			kept = append(kept, line...)
		}
		return kept, nil
	})
}

// OwnName gives the name that a hop's keys have in the program's own file, where its
// configuration says nothing of its name: behind others it is one with the route to it.
func OwnName(h target.Hop, before []target.Hop) string {
	return chained(hostName(h.Host, h.Port), before)
}

// chained gives the name of a host behind others. It is one name, no matter what the hops' users
// hold: a comma or a star in one makes neither a second name nor a pattern.
func chained(name string, before []target.Hop) string {
	for _, each := range slices.Backward(before) {
		name += "@" + strings.ReplaceAll(each.String(), "@", "~")
	}
	var b strings.Builder
	for i := range len(name) {
		if c := name[i]; c <= ' ' || c >= 0x7f || strings.IndexByte(",*?!|#%", c) >= 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// HopOf gives the name of a hop in the tool's own file as people write it, host:port and not
// [host]:port; NameOf is the reverse.
func HopOf(name string) string {
	host, rest, bracket := strings.Cut(name, "]")
	if !bracket || !strings.HasPrefix(host, "[") || strings.Contains(host, ":") {
		return name
	}
	return host[1:] + rest
}

// NameOf is described at HopOf.
func NameOf(hop string) string {
	place, way, behind := strings.Cut(hop, "@")
	if host, port, ok := strings.Cut(place, ":"); ok && !strings.Contains(port, ":") {
		place = "[" + host + "]:" + port
	}
	if behind {
		return place + "@" + way
	}
	return place
}
