package jump

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Verdict says how a host's key stands to what is known of the host.
type Verdict byte

// The verdicts.
const (
	Unknown Verdict = iota // no key is known for the host
	Known
	Changed // others are known
	Revoked
	Weak // an RSA key with fewer bits than are wanted
	// The verdicts on a certificate that does not prove the host. The key in it is not known by
	// itself either.
	CertificateEnded   // or not valid yet
	CertificateName    // it is for other names
	CertificateStrange // nobody knows its authority
	CertificateUnfit   // it is of another kind, or is signed in a way that is not accepted
)

// leastRSA is how many bits an RSA key must have where the configuration says nothing
// (ssh_config(5), RequiredRSASize).
const leastRSA = 1024

// signing are the algorithms with which an authority may sign a host's certificate where the
// configuration says nothing (ssh_config(5), CASignatureAlgorithms): not those with SHA-1.
var signing = []string{
	ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKED25519,
	ssh.KeyAlgoSKECDSA256, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256,
}

// trust is what is known of one host, and how strict the configuration is about it.
type trust struct {
	theirs []KnownKey // of the user's files, then of the system's, for the host's name with its port
	// of the same files, for the name without the port; none where the port is the usual one or
	// there is an alias
	bare []KnownKey
	own  []KnownKey // of this program's file
	// address are those of the same files for the host's IP address, where the configuration
	// wants it checked (CheckHostIP).
	address    []KnownKey
	principal  string   // the name that a certificate must be for
	signing    []string // the algorithms with which an authority may sign
	bits       int      // the least bits of an RSA key
	algorithms []string // those of host keys that are accepted; nil for all
}

// judgement is a verdict with the lines that decided it, and what is wrong with a certificate.
type judgement struct {
	Verdict
	by  []KnownKey
	why string // a sentence
}

// judge holds a host's key against what is known of the host, as OpenSSH does (check_host_key in
// its sshconnect.c), and is stricter in this: a revoked key of the bare name counts for every
// port, and a certificate of a known authority that does not hold is said to be so.
func (t trust) judge(key ssh.PublicKey, now time.Time) judgement {
	if by := revoked(slices.Concat(t.theirs, t.bare, t.own, t.address), key); len(by) > 0 {
		return judgement{Revoked, by, ""}
	}
	if bits := bitsOf(key); bits > 0 && bits < t.bits {
		return judgement{Weak, nil, fmt.Sprintf("It is an RSA key of %d bits, and %d are wanted.", bits, t.bits)}
	}
	cert, certified := key.(*ssh.Certificate)
	bad := judgement{Verdict: Unknown}
	if certified {
		line := signedBy(t.theirs, cert)
		if line == nil {
			line = signedBy(t.bare, cert)
		}
		switch bad = t.certificate(cert, now); {
		case line == nil:
			bad = judgement{CertificateStrange, marked(t.theirs, markAuthority),
				"Its authority " + Fingerprint(cert.SignatureKey) + " is not known."}
		case bad.Verdict == Known:
			return judgement{Known, []KnownKey{*line}, ""}
		default:
			bad.by = []KnownKey{*line}
		}
		key = cert.Key // OpenSSH goes on with it, as if there were no certificate
	}
	found := t.plain(key)
	if found.Verdict == Known && !certified {
		// The address must not be known by other keys, where that is asked for.
		if others := marked(t.address, ""); len(others) > 0 && !slices.ContainsFunc(others, is(key)) {
			return judgement{Changed, others, ""}
		}
	}
	if certified && (found.Verdict == Unknown || found.Verdict == Changed && bad.Verdict != CertificateStrange) {
		return bad
	}
	return found
}

// deciding gives the lines that say which keys a host may show: those for the bare name only
// where the port has no keys.
func (t trust) deciding() []KnownKey {
	lines := slices.Concat(t.theirs, t.own)
	if len(marked(t.theirs, "")) == 0 {
		return append(lines, t.bare...)
	}
	return append(lines, marked(t.bare, markAuthority)...)
}

// plain judges a key without a certificate.
func (t trust) plain(key ssh.PublicKey) judgement {
	theirs, own := marked(t.theirs, ""), marked(t.own, "")
	if i := slices.IndexFunc(theirs, is(key)); i >= 0 {
		return judgement{Known, theirs[i : i+1], ""}
	}
	if bare := marked(t.bare, ""); len(theirs) == 0 {
		if i := slices.IndexFunc(bare, is(key)); i >= 0 {
			return judgement{Known, bare[i : i+1], ""}
		}
	}
	if i := slices.IndexFunc(own, is(key)); i >= 0 {
		// The user's and the system's files have the word about a type of key of which they have one.
		rival := func(line KnownKey) bool { return line.Key.Type() == key.Type() }
		if !slices.ContainsFunc(theirs, rival) {
			return judgement{Known, own[i : i+1], ""}
		}
	}
	switch {
	case len(theirs) > 0:
		return judgement{Changed, theirs, ""}
	case len(own) > 0:
		return judgement{Changed, own, ""}
	}
	return judgement{Verdict: Unknown}
}

// certificate judges a host's certificate but for its authority: Known where it holds.
func (t trust) certificate(cert *ssh.Certificate, now time.Time) judgement {
	at := uint64(now.Unix())
	day := func(at uint64) string { return time.Unix(int64(at), 0).UTC().Format("2006-01-02 15:04 UTC") }
	switch {
	case cert.CertType != ssh.HostCert:
		return judgement{CertificateUnfit, nil, "It is a user's certificate, and no host's."}
	case !slices.Contains(t.signing, cert.Signature.Format):
		return judgement{CertificateUnfit, nil,
			"It is signed with " + cert.Signature.Format + ", which is not accepted (CASignatureAlgorithms)."}
	case len(cert.CriticalOptions) > 0:
		return judgement{CertificateUnfit, nil, "It has a critical option, and none is known for hosts."}
	case at < cert.ValidAfter:
		return judgement{CertificateEnded, nil, "It is not valid before " + day(cert.ValidAfter) + "."}
	case cert.ValidBefore != ssh.CertTimeInfinity && at >= cert.ValidBefore:
		return judgement{CertificateEnded, nil, "It ended on " + day(cert.ValidBefore) + "."}
	case len(cert.ValidPrincipals) > 0 && !slices.Contains(cert.ValidPrincipals, t.principal):
		return judgement{CertificateName, nil, "It is for " + strings.Join(cert.ValidPrincipals, ", ") + "."}
	}
	checker := ssh.CertChecker{Clock: func() time.Time { return now }}
	if checker.CheckCert(t.principal, cert) != nil {
		return judgement{CertificateUnfit, nil, "Its signature is not valid."}
	}
	return judgement{Verdict: Known}
}

// revoked gives the lines that revoke a key, the key in a certificate, or a certificate's
// authority.
func revoked(lines []KnownKey, key ssh.PublicKey) []KnownKey {
	var by []KnownKey
	cert, certified := key.(*ssh.Certificate)
	for _, line := range marked(lines, markRevoked) {
		if is(plain(key))(line) || is(key)(line) || certified && is(cert.SignatureKey)(line) {
			by = append(by, line)
		}
	}
	return by
}

// signedBy gives the line of a certificate's authority, nil for none.
func signedBy(lines []KnownKey, cert *ssh.Certificate) *KnownKey {
	authorities := marked(lines, markAuthority)
	if i := slices.IndexFunc(authorities, is(cert.SignatureKey)); i >= 0 {
		return &authorities[i]
	}
	return nil
}

// is gives a test for lines with a key.
func is(key ssh.PublicKey) func(KnownKey) bool {
	blob := key.Marshal()
	return func(line KnownKey) bool { return bytes.Equal(line.Key.Marshal(), blob) }
}

// plain gives the key of a certificate, and any other key as it is.
func plain(key ssh.PublicKey) ssh.PublicKey {
	if cert, ok := key.(*ssh.Certificate); ok {
		return cert.Key
	}
	return key
}

// Fingerprint gives the SHA-256 fingerprint of a key; for a certificate that of the key in it, as
// ssh-keygen -l prints it.
func Fingerprint(key ssh.PublicKey) string { return ssh.FingerprintSHA256(plain(key)) }

// bitsOf gives how many bits an RSA key has, 0 for keys of other types.
func bitsOf(key ssh.PublicKey) int {
	type sized interface{ Size() int }
	if crypto, ok := plain(key).(ssh.CryptoPublicKey); ok {
		if rsa, ok := crypto.CryptoPublicKey().(sized); ok {
			return 8 * rsa.Size()
		}
	}
	return 0
}
