package jump

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/target"
)

// maxKnown bounds a file of known hosts.
const maxKnown = 16 << 20

// HostKeys are the known hosts of several files, in the format of OpenSSH (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").
type HostKeys struct{ lines []KnownKey }

// KnownKey is a line of a file of known hosts.
type KnownKey struct {
	Marker string // "", "cert-authority" or "revoked"
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
		marker, hosts, key, note, _, err := ssh.ParseKnownHosts(line)
		if err == nil {
			k.lines = append(k.lines, KnownKey{marker, hosts, key, note, path, n})
		}
	}
}

// hostName gives a host with its port as a file of known hosts has it: [host]:port where the port is not 22.
func hostName(host string, port int) string {
	host = strings.ToLower(host)
	if port == 0 || port == 22 {
		return host
	}
	return "[" + host + "]:" + strconv.Itoa(port)
}

// names reports whether a line is for one of some names.
func (l KnownKey) names(names []string) bool {
	for _, name := range names {
		found, excluded := false, false
		for _, pattern := range l.Hosts {
			bare, negated := strings.CutPrefix(pattern, "!")
			switch {
			case strings.HasPrefix(pattern, "|1|"):
				found = found || hashed(pattern, name)
			case !glob(strings.ToLower(bare), name):
			case negated:
				excluded = true
			default:
				found = true
			}
		}
		if found && !excluded {
			return true
		}
	}
	return false
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

// Of gives the lines for one of some names, those of authorities and revoked ones too.
func (k HostKeys) Of(names []string) []KnownKey {
	var list []KnownKey
	for _, line := range k.lines {
		if line.names(names) {
			list = append(list, line)
		}
	}
	return list
}

// Verdict says how a host's key stands to the known ones.
type Verdict byte

// The verdicts.
const (
	Unknown Verdict = iota // no key is known for the host
	Known
	Changed // others are known
	Revoked
)

// Judge holds a host's key against what is known of the host: lines that are for it. It gives the lines that decided. For a
// certificate, principal is the name that it must be for.
func Judge(lines []KnownKey, principal string, key ssh.PublicKey, now time.Time) (Verdict, []KnownKey) {
	cert, isCert := key.(*ssh.Certificate)
	same := func(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }
	var plain, authorities, revoked []KnownKey
	for _, line := range lines {
		switch line.Marker {
		case "revoked":
			if same(line.Key, key) || isCert && (same(line.Key, cert.SignatureKey) || same(line.Key, cert.Key)) {
				revoked = append(revoked, line)
			}
		case "cert-authority":
			authorities = append(authorities, line)
		default:
			plain = append(plain, line)
		}
	}
	if len(revoked) > 0 {
		return Revoked, revoked
	}
	if isCert {
		for _, line := range authorities {
			if same(line.Key, cert.SignatureKey) && hostCertificate(cert, principal, now) == nil {
				return Known, []KnownKey{line}
			}
		}
		key = cert.Key // its plain key may be known too
	}
	for _, line := range plain {
		if same(line.Key, key) {
			return Known, []KnownKey{line}
		}
	}
	if len(plain) == 0 {
		return Unknown, authorities
	}
	return Changed, plain
}

// hostCertificate reports what is wrong with a host's certificate, but for its authority.
func hostCertificate(cert *ssh.Certificate, principal string, now time.Time) error {
	if cert.CertType != ssh.HostCert {
		return errors.New("it is not for a host")
	}
	checker := ssh.CertChecker{Clock: func() time.Time { return now }}
	return checker.CheckCert(principal, cert)
}

// algorithms gives the algorithms to ask a host for, those of its known keys first, so that a host with several keys shows one that is
// known.
func algorithms(lines []KnownKey, all []string) []string {
	var first []string
	put := func(format string) {
		for _, algorithm := range all {
			if keyFormat(algorithm) == format && !slices.Contains(first, algorithm) {
				first = append(first, algorithm)
			}
		}
	}
	for _, line := range lines {
		switch line.Marker {
		case "cert-authority":
			for _, algorithm := range all {
				if strings.Contains(algorithm, "-cert-v01@") && !slices.Contains(first, algorithm) {
					first = append(first, algorithm)
				}
			}
		case "":
			put(line.Key.Type())
		}
	}
	for _, algorithm := range all {
		if !slices.Contains(first, algorithm) {
			first = append(first, algorithm)
		}
	}
	return first
}

// keyFormat gives the format of the keys of an algorithm: those of RSA have several algorithms (RFC 8332).
func keyFormat(algorithm string) string {
	switch algorithm {
	case ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512:
		return ssh.KeyAlgoRSA
	}
	return algorithm
}

// Line writes a host's key as a line of a file of known hosts.
func Line(name string, key ssh.PublicKey, note string) string {
	line := name + " " + strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(key)), "\n")
	if note != "" {
		line += " " + note
	}
	return line
}

// learn adds a line to the tool's own file of known hosts.
func learn(ctx context.Context, path string, lines ...string) error {
	unlock, err := files.Lock(ctx, path+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	data, err := files.ReadOwn(path, maxKnown)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(data) > 0 && data[len(data)-1] != '\n' {
		data = append(data, '\n')
	}
	return files.Write(path, append(data, strings.Join(lines, "\n")+"\n"...), os.FileMode(0o600))
}

// Lines gives all lines, in their order.
func (k HostKeys) Lines() []KnownKey { return k.lines }

// Forget takes the lines of a name out of the tool's own file of known hosts, and gives how many they were. Others stay as they are.
func Forget(path, name string) (gone int, err error) {
	data, err := files.ReadOwn(path, maxKnown)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	var kept []byte
	for line := range bytes.Lines(data) {
		if _, hosts, _, _, _, err := ssh.ParseKnownHosts(line); err == nil && slices.Contains(hosts, name) {
			gone++
			continue
		}
		kept = append(kept, line...)
	}
	if gone == 0 {
		return 0, nil
	}
	return gone, files.Write(path, kept, 0o600)
}

// OwnName gives the name that a hop's keys have in the tool's own file, where its configuration says nothing of its name: behind others it
// is one with the way to it.
func OwnName(h target.Hop, before []target.Hop) string {
	return chained(hostName(h.Host, h.Port), before)
}

func chained(name string, before []target.Hop) string {
	for _, each := range slices.Backward(before) {
		name += "@" + strings.ReplaceAll(each.String(), "@", "~")
	}
	return name
}

// HopOf gives the name of a hop in the tool's own file as people write it, host:port and not [host]:port; NameOf is the reverse.
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
