package jump

import (
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// algorithms gives the algorithms to ask a host for, as OpenSSH orders them (order_hostkeyalgs in
// its sshconnect2.c): those of certificates where an authority is known, then those of known
// keys, then the others; within each in the order in which they are given. So a host with several
// keys shows one that is known.
func algorithms(lines []KnownKey, all []string) []string {
	// A known host is asked for its certificate too where lines are revoked: it shows whether its
	// authority is.
	vouched := len(marked(lines, markAuthority)) > 0 || len(marked(lines, markRevoked)) > 0 && len(marked(lines, "")) > 0
	rank := func(algorithm string) int {
		switch {
		case strings.Contains(algorithm, "-cert-v01@"):
			if vouched {
				return 0
			}
		case slices.ContainsFunc(marked(lines, ""), func(line KnownKey) bool {
			return line.Key.Type() == keyFormat(algorithm)
		}):
			return 1
		}
		return 2
	}
	list := slices.Clone(all)
	slices.SortStableFunc(list, func(x, y string) int { return rank(x) - rank(y) })
	return list
}

// preferred puts the host-key algorithms in the order in which they are asked for where nothing
// is known of the host: the strongest first, and keys before certificates, whose authority nobody
// knows.
func preferred(all []string) []string {
	rank := func(name string) int {
		order := []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521,
			ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
		if i := slices.Index(order, name); i >= 0 {
			return i
		}
		return len(order)
	}
	list := slices.Clone(all)
	slices.SortStableFunc(list, func(x, y string) int { return rank(x) - rank(y) })
	return list
}

// chosen reads a list of algorithms: +x adds to the usual ones, -x takes from them, ^x puts in
// front of them (ssh_config(5)). Only what is known here is in the result.
func chosen(text string, usual, more []string) []string {
	if text == "" {
		return usual
	}
	all := slices.Concat(usual, more)
	list := func(text string) []string {
		var names []string
		for _, pattern := range strings.Split(text, ",") {
			for _, name := range all {
				if glob(pattern, name) && !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
		return names
	}
	without := func(from, names []string) []string {
		return slices.DeleteFunc(slices.Clone(from), func(name string) bool { return slices.Contains(names, name) })
	}
	switch text[0] {
	case '+':
		more := list(text[1:])
		return append(slices.Clone(usual), without(more, usual)...)
	case '-':
		return without(usual, list(text[1:]))
	case '^':
		first := list(text[1:])
		return append(first, without(usual, first)...)
	}
	return list(text)
}

// certifiable gives algorithms and those of the certificates that go with them.
func certifiable(names []string) []string {
	all := slices.Clone(names)
	for _, name := range names {
		all = append(all, strings.TrimSuffix(name, "@openssh.com")+"-cert-v01@openssh.com")
	}
	return all
}

// keyFormat gives the format of the keys of an algorithm: those of RSA have several algorithms
// (RFC 8332).
func keyFormat(algorithm string) string {
	switch algorithm {
	case ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512:
		return ssh.KeyAlgoRSA
	case ssh.CertAlgoRSASHA256v01, ssh.CertAlgoRSASHA512v01:
		return ssh.CertAlgoRSAv01
	}
	return algorithm
}
