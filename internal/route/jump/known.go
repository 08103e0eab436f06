package jump

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"io/fs"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/files"
)

// maxKnown bounds a file of known hosts.
const maxKnown = 16 << 20

// HostKeys are the known hosts of several files, in the format of OpenSSH (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").
type HostKeys struct{ lines []KnownKey }

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

// Read adds the lines of a file. One that is missing has none, and a line that cannot be read counts for nothing, as in OpenSSH.
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

func (k *HostKeys) add(path string, data []byte) {
	n := 0
	for line := range bytes.Lines(data) {
		n++
		if known, ok := knownLine(string(line)); ok {
			known.File, known.Line = path, n
			k.lines = append(k.lines, known)
		}
	}
}

// knownLine reads a line of a file of known hosts as OpenSSH does: a marker or none, names, the type of a key, the key in base64, and
// whatever words are left as a comment. (ssh.ParseKnownHosts refuses comments of several words, and with them revoked keys; and it takes
// a marker that nobody knows for none.)
func knownLine(line string) (KnownKey, bool) {
	var known KnownKey
	next := func() (word string) {
		line = strings.TrimLeft(line, " \t")
		word, line = line, ""
		if end := strings.IndexAny(word, " \t"); end >= 0 {
			word, line = word[:end], word[end:]
		}
		return word
	}
	line = strings.TrimRight(line, "\r\n")
	word := next()
	if word == "" || word[0] == '#' {
		return known, false
	}
	if word[0] == '@' {
		if known.Marker = word[1:]; known.Marker != markRevoked && known.Marker != markAuthority {
			return known, false
		}
		word = next()
	}
	known.Hosts = strings.Split(word, ",")
	kind := next()
	blob, err := base64.StdEncoding.DecodeString(next())
	if err != nil {
		return known, false
	}
	known.Key, err = ssh.ParsePublicKey(blob)
	known.Note = strings.TrimSpace(line)
	return known, err == nil && known.Key.Type() == kind
}

// hostName gives a host with its port as a file of known hosts has it: [host]:port where the port is not 22.
func hostName(host string, port int) string {
	host = strings.ToLower(host)
	if port == 0 || port == 22 {
		return host
	}
	return "[" + host + "]:" + strconv.Itoa(port)
}

// names reports whether a line is for a name.
func (l KnownKey) names(name string) bool {
	found := false
	for _, pattern := range l.Hosts {
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

// Of gives the lines for a name, those of authorities and revoked ones too.
func (k HostKeys) Of(name string) []KnownKey {
	var list []KnownKey
	for _, line := range k.lines {
		if line.names(name) {
			list = append(list, line)
		}
	}
	return list
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
