package jump

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/files"
)

// maxKnown bounds a file of known hosts.
const maxKnown = 8 << 20

// HostKeys are the known hosts of several files, in the format of OpenSSH (sshd(8),
// "SSH_KNOWN_HOSTS FILE FORMAT"). The files are kept as they are, and only the lines for a name
// are taken apart: a company's file has a hundred thousand hosts.
type HostKeys struct{ files []knownFile }

type knownFile struct {
	path string
	data []byte
}

// maxFor is how many lines may be for one name.
const maxFor = 5000

// The markers of lines in files of known hosts.
const (
	markRevoked   = "revoked"
	markAuthority = "cert-authority"
)

// KnownKey is a line of a file of known hosts.
type KnownKey struct {
	Marker string // "", markAuthority or markRevoked
	Hosts  []string
	Key    ssh.PublicKey
	Note   string // the comment
	File   string
	Line   int
}

// Read adds the lines of a file. One that is missing has none, and a line that cannot be read
// counts for nothing, as in OpenSSH.
func (k *HostKeys) Read(path string) error {
	data, err := files.ReadOwn(path, maxKnown)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	k.add(path, data)
	return nil
}

func (k *HostKeys) add(path string, data []byte) { k.files = append(k.files, knownFile{path, data}) }

// each gives the lines that are for a name, or all of them where wanted is nil, taken apart.
func (k HostKeys) each(wanted func(hosts []byte) bool) iter.Seq[KnownKey] {
	return func(yield func(KnownKey) bool) {
		for _, file := range k.files {
			n := 0
			for line := range bytes.Lines(file.data) {
				n++
				marker, hosts, rest, is := parts(line)
				if !is || wanted != nil && !wanted(hosts) {
					continue
				}
				known, ok := known(marker, hosts, rest)
				if known.File, known.Line = file.path, n; ok && !yield(known) {
					return
				}
			}
		}
	}
}

// word takes the first word off a line.
func word(line []byte) (word, rest []byte) {
	line = bytes.TrimLeft(line, " \t")
	if end := bytes.IndexAny(line, " \t"); end >= 0 {
		return line[:end], line[end:]
	}
	return line, nil
}

// parts takes a line of a file of known hosts apart as OpenSSH does: a marker or none, names, and
// the rest. A line that says nothing is none.
func parts(line []byte) (marker string, hosts, rest []byte, is bool) {
	hosts, rest = word(bytes.TrimRight(line, "\r\n"))
	if len(hosts) == 0 || hosts[0] == '#' {
		return "", nil, nil, false
	}
	if hosts[0] == '@' {
		if marker = string(hosts[1:]); marker != markRevoked && marker != markAuthority {
			return "", nil, nil, false
		}
		hosts, rest = word(rest)
	}
	return marker, hosts, rest, true
}

// known reads the rest of a line: the type of a key, the key in base64, and any words that are
// left as a comment. (ssh.ParseKnownHosts refuses comments of several words, and with them
// revoked keys; and it takes a marker that nobody knows for none.)
func known(marker string, hosts, rest []byte) (KnownKey, bool) {
	kind, rest := word(rest)
	text, rest := word(rest)
	blob, err := base64.StdEncoding.DecodeString(string(text))
	if err != nil {
		return KnownKey{}, false
	}
	key, err := ssh.ParsePublicKey(blob)
	if err != nil || key.Type() != string(kind) {
		return KnownKey{}, false
	}
	return KnownKey{Marker: marker, Hosts: strings.Split(string(hosts), ","), Key: key,
		Note: strings.TrimSpace(string(rest))}, true
}

// knownLine reads one line.
func knownLine(line string) (KnownKey, bool) {
	marker, hosts, rest, is := parts([]byte(line))
	if !is {
		return KnownKey{}, false
	}
	return known(marker, hosts, rest)
}

// hostName gives a host with its port as a file of known hosts has it: [host]:port where the port
// is not 22.
func hostName(host string, port int) string {
	host = strings.ToLower(host)
	if port == 0 || port == 22 {
		return host
	}
	return "[" + host + "]:" + strconv.Itoa(port)
}

// names reports whether a line is for a name.
func (l KnownKey) names(name string) bool { return named(slices.Values(l.Hosts), name) }

// named reports whether patterns are for a name.
func named(patterns iter.Seq[string], name string) bool {
	found := false
	for pattern := range patterns {
		bare, negated := strings.CutPrefix(pattern, "!")
		switch {
		case strings.HasPrefix(pattern, "|1|"):
			found = found || hashed(pattern, name)
		case !glob(strings.ToLower(bare), strings.ToLower(name)):
		case negated:
			return false
		default:
			found = true
		}
	}
	return found
}

// hashed reports whether a hashed name, |1|SALT|HMAC-SHA1 in base64, is that of a host.
func hashed(pattern, name string) bool {
	salt, sum, ok := strings.Cut(strings.TrimPrefix(pattern, "|1|"), "|")
	key, err := base64.StdEncoding.DecodeString(salt)
	want, err2 := base64.StdEncoding.DecodeString(sum)
	if !ok || err != nil || err2 != nil {
		return false
	}
	mac := hmac.New(sha1.New, key)
	mac.Write([]byte(name))
	return hmac.Equal(mac.Sum(nil), want)
}

// Of gives the lines for a name, those of authorities and revoked ones too. None is left out:
// where there are too many the error says so.
func (k HostKeys) Of(name string) ([]KnownKey, error) {
	var list []KnownKey
	for line := range k.each(func(hosts []byte) bool {
		return named(func(yield func(string) bool) {
			for pattern := range bytes.SplitSeq(hosts, []byte(",")) {
				if !yield(string(pattern)) {
					return
				}
			}
		}, name)
	}) {
		if list = append(list, line); len(list) > maxFor {
			return nil, fmt.Errorf("%s has more than %d lines for %s", line.File, maxFor, name)
		}
	}
	return list, nil
}

// marked gives the lines with a marker.
func marked(lines []KnownKey, marker string) []KnownKey {
	var list []KnownKey
	for _, line := range lines {
		if line.Marker == marker {
			list = append(list, line)
		}
	}
	return list
}
