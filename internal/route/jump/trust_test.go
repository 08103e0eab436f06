//go:build unix

package jump

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	mrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/route/routetest"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

// generated is how many generated cases a comparison with OpenSSH has; scripts/fuzz asks for more.
func generated(few int) int {
	if more, err := strconv.Atoi(os.Getenv("GENERATED")); err == nil && more > few {
		return more
	}
	return few
}

// hostCertificate makes a host's certificate for a key.
func hostCertificate(t *testing.T, key ssh.PublicKey, authority ssh.Signer,
	change func(*ssh.Certificate)) *ssh.Certificate {
	t.Helper()
	cert := &ssh.Certificate{Key: key, CertType: ssh.HostCert, ValidBefore: ssh.CertTimeInfinity, KeyId: "test"}
	if change != nil {
		change(cert)
	}
	must(t, cert.SignCert(rand.Reader, authority))
	return cert
}

// TestTrustAsOpenSSH generates files of known hosts and configurations, and goes to real servers
// with them: what is let pass here is let pass by OpenSSH's own client, and the other way round
// but for what this program is stricter in.
func TestTrustAsOpenSSH(t *testing.T) {
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Skip("skipped for want of ssh")
	}
	r := mrand.New(mrand.NewPCG(uint64(generated(1)), 23))
	authority := jumptest.NewKey(t, filepath.Join(t.TempDir(), "ca"), "ed25519", "")
	old := jumptest.NewKey(t, filepath.Join(t.TempDir(), "rsa-ca"), "rsa", "")
	sha1, err := ssh.NewSignerWithAlgorithms(old.Signer.(ssh.AlgorithmSigner), []string{ssh.KeyAlgoRSA})
	must(t, err)
	other := map[string]jumptest.Key{}
	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		other[kind] = jumptest.NewKey(t, filepath.Join(t.TempDir(), "other"), kind, "")
	}
	type place struct {
		name string
		*jumptest.Server
		cert *ssh.Certificate
	}
	places := []place{{"plain keys", jumptest.Start(t, nil, "ed25519", "ecdsa", "rsa"), nil}}
	for name, change := range map[string]func(*ssh.Certificate){
		"a certificate": nil,
		"one that ended": func(c *ssh.Certificate) {
			c.ValidAfter, c.ValidBefore = uint64(time.Date(2019, 1, 1, 0, 0, 0, 0,
				time.UTC).Unix()), uint64(time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC).Unix())
		},
		"one for another name": func(c *ssh.Certificate) { c.ValidPrincipals = []string{"elsewhere.fellside.example"} },
		"one for the alias":    func(c *ssh.Certificate) { c.ValidPrincipals = []string{"gate.fellside.example"} },
		"a user's":             func(c *ssh.Certificate) { c.CertType = ssh.UserCert },
		"one with a critical option": func(c *ssh.Certificate) {
			c.CriticalOptions = map[string]string{"source-address": "127.0.0.0/8"}
		},
	} {
		s := jumptest.Start(t, nil)
		cert := hostCertificate(t, s.Keys["ed25519"], authority.Signer, change)
		s.CertifyWith(cert)
		places = append(places, place{name, s, cert})
	}
	weak := jumptest.Start(t, nil)
	weakCert := hostCertificate(t, weak.Keys["ed25519"], sha1, nil)
	weak.CertifyWith(weakCert)
	places = append(places, place{"one signed with SHA-1", weak, weakCert})
	slices.SortFunc(places, func(a, b place) int { return strings.Compare(a.name, b.name) })

	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	text := func(key ssh.PublicKey) string { return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) }
	let, refused := 0, 0
	for range generated(100) {
		p := places[r.IntN(len(places))]
		home := filepath.Join(t.TempDir(), "a home") // with a space
		port := fmt.Sprintf("[127.0.0.1]:%d", p.Port)
		line := func() string {
			names := pick(port, port, port, "127.0.0.1", "gate.fellside.example", "*", "[127.0.0.1]:*",
				"[127.0.0.?]:"+strconv.Itoa(p.Port), port+",!"+port, "*,!127.0.0.1", knownHash(port),
				knownHash("127.0.0.1"), knownHash("gate.fellside.example"), "GATE.fellside.example",
				"other.fellside.example")
			key := p.Keys["ed25519"]
			switch n := r.IntN(8); {
			case n == 0 && p.Keys["rsa"] != nil:
				key = p.Keys["rsa"]
			case n == 1 && p.Keys["ecdsa"] != nil:
				key = p.Keys["ecdsa"]
			case n == 2:
				key = other[pick("ed25519", "ecdsa", "rsa")].Public
			case n == 3 || n == 4 && p.cert != nil:
				key = authority.Public
			case n == 5 && p.cert != nil:
				key = p.cert.SignatureKey
			}
			marker := pick("", "", "", "", "", "@cert-authority ", "@cert-authority ", "@revoked ", "@unheard ",
				"@revoked @cert-authority ")
			return pick("", " ", "\t") + marker + names + pick(" ", "\t", "  ") + text(key) + pick("", " note",
				" a note of several words", " # what") + pick("", "\r")
		}
		file := func(name string) string {
			var lines []string
			for range r.IntN(4) {
				lines = append(lines, line())
			}
			if r.IntN(5) == 0 {
				lines = slices.Insert(lines, r.IntN(len(lines)+1),
					pick("# a remark", "", "no key at all", port+" ssh-ed25519 AAAA",
						port+" ssh-rsa "+strings.Fields(text(p.Keys["ed25519"]))[1]))
			}
			return write(t, filepath.Join(home, name), strings.Join(lines, "\n")+pick("\n", ""))
		}
		user, second, global := file("known hosts"), file("known2"), file("global")
		config := []string{
			`UserKnownHostsFile "` + user + `" ` + pick("", `"`+second+`"`, `"~/none such"`),
			`GlobalKnownHostsFile ` + pick("none", `"`+global+`"`, "/no/such"), "StrictHostKeyChecking yes",
			pick("", "", "HostKeyAlias gate.fellside.example", "HostKeyAlias Gate.Fellside.example"),
			pick("", "", "", "CASignatureAlgorithms +ssh-rsa", "CASignatureAlgorithms rsa-sha2-512"),
			pick("", "", "", "RequiredRSASize 3072"),
			pick("", "", "HostKeyAlgorithms ssh-ed25519",
				"HostKeyAlgorithms ssh-rsa,rsa-sha2-512,ssh-ed25519", "CheckHostIP yes"),
		}
		path := write(t, filepath.Join(home, ".ssh", "config"), strings.Join(config, "\n")+"\n")
		out, _ := exec.CommandContext(t.Context(), "ssh", "-F", path, "-o", "BatchMode=yes", "-o",
			"PreferredAuthentications=none", "-o", "KexAlgorithms=curve25519-sha256", "-o", "ConnectTimeout=5",
			"-p", strconv.Itoa(p.Port), "127.0.0.1", "true").CombinedOutput()
		theirs := strings.Contains(string(out), "Permission denied")
		h := &Hop{Hop: target.Hop{Host: "127.0.0.1", Port: p.Port},
			Config: Config{User: path, World: World{Home: home, User: "nobody-here"}}}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		_, err := h.Through(ctx, nil)
		cancel()
		code, _, _ := strings.Cut(problem(err), " ")
		ours := code == "tunnel.login-refused"
		if ours {
			let++
		} else {
			refused++
		}
		// One that is revoked for the bare name is revoked at each port. OpenSSH also takes the
		// key in a certificate that nobody vouches for when it is known for the bare name, even
		// where the port has other keys; without a certificate it does not.
		stricter := code == "tunnel.host-key-revoked"
		if p.cert != nil && theirs {
			var all HostKeys
			for _, each := range []string{user, second, global} {
				must(t, all.Read(each))
			}
			stricter = stricter || slices.ContainsFunc(marked(of(t, all, "127.0.0.1"), ""), is(p.cert.Key)) &&
				len(marked(of(t, all, port), "")) > 0
		}
		if ours != theirs && !stricter || !strings.HasPrefix(code, "tunnel.") {
			known, _ := os.ReadFile(user)
			more, _ := os.ReadFile(second)
			system, _ := os.ReadFile(global)
			t.Fatalf("%s: %v, and OpenSSH says %t: %s\nconfiguration:\n%s\nknown hosts:\n%s\nsecond:\n%s\nglobal:\n%s",
				p.name, problem(err), theirs, out, strings.Join(config, "\n"), known, more, system)
		}
	}
	t.Logf("%d let pass, %d refused", let, refused)
	if let < 10 || refused < 10 {
		t.Error("the cases are too much alike")
	}
}

// TestNamesAsOpenSSH generates lines of known hosts and holds what is found for a name against
// ssh-keygen -F.
func TestNamesAsOpenSSH(t *testing.T) {
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Skip("skipped for want of ssh-keygen")
	}
	r := mrand.New(mrand.NewPCG(uint64(generated(1)), 24))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"),
		"ed25519", "").Public)))
	found := 0
	for range generated(60) {
		var lines []string
		for range 12 {
			name := pick("gate", "GATE", "g*", "g?te", "*", "!gate", "[gate]:2222", "[gate]:*", "10.0.0.1",
				"::1", "[::1]:2222", knownHash("gate"), knownHash("[gate]:2222"), "|1|broken", "gate,bunk",
				"bunk,!gate,*", "*,!g*", "")
			lines = append(lines, pick("", " ", "\t")+pick("", "", "", "@revoked ", "@cert-authority ",
				"@other ", "@revoked")+name+pick(" ", "\t", "")+pick(key, key, key+" some more words", key+" # no"))
		}
		path := write(t, filepath.Join(t.TempDir(), "known"), strings.Join(lines, "\n")+"\n")
		var keys HostKeys
		must(t, keys.Read(path))
		for _, name := range []string{"gate", "[gate]:2222", "10.0.0.1", "::1", "[::1]:2222", "bunk", "nobody"} {
			var mine, theirs []string
			for _, line := range of(t, keys, name) {
				mine = append(mine, strconv.Itoa(line.Line))
			}
			out, _ := exec.CommandContext(t.Context(), "ssh-keygen", "-F", name, "-f", path).CombinedOutput()
			for line := range strings.Lines(string(out)) {
				if _, rest, ok := strings.Cut(line, "found: line "); ok {
					theirs = append(theirs, strings.Fields(rest)[0])
				}
			}
			found += len(mine)
			if !slices.Equal(mine, theirs) {
				t.Fatalf("%s: lines %v, and ssh-keygen finds %v in\n%s", name, mine, theirs, strings.Join(lines, "\n"))
			}
		}
	}
	if found < 100 {
		t.Errorf("only %d lines were found", found)
	}
}

// TestFingerprintOfACertificate holds the fingerprint of a certificate against ssh-keygen -lf.
func TestFingerprintOfACertificate(t *testing.T) {
	key, authority := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", ""), jumptest.NewKey(t,
		filepath.Join(t.TempDir(), "ca"), "rsa", "")
	cert := hostCertificate(t, key.Public, authority.Signer, nil)
	out, err := exec.CommandContext(t.Context(), "ssh-keygen", "-lf",
		write(t, filepath.Join(t.TempDir(), "c-cert.pub"), string(ssh.MarshalAuthorizedKey(cert)))).CombinedOutput()
	if err != nil || !strings.Contains(string(out), " "+Fingerprint(cert)+" ") {
		t.Errorf("%s and %s %v", Fingerprint(cert), out, err)
	}
}

// TestACertificateTeachesNothing goes once to a real server that only a certificate proves: what
// it announces is not learned, and no later certificate that does not hold, and no empty file of
// known hosts, passes on the strength of it.
func TestACertificateTeachesNothing(t *testing.T) {
	b := newBench(t, nil)
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	authority, stranger := jumptest.NewKey(t, filepath.Join(t.TempDir(), "ca"), "ed25519",
		""), jumptest.NewKey(t, filepath.Join(t.TempDir(), "other"), "ed25519", "")
	line := func(key jumptest.Key) string {
		return "@cert-authority [127.0.0.1]:* " + string(ssh.MarshalAuthorizedKey(key.Public))
	}
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	for _, c := range []struct {
		name, known string
		change      func(*ssh.Certificate)
		code        string
	}{
		{"good", line(authority), nil, ""},
		{"one that ended", line(authority), func(c *ssh.Certificate) {
			c.ValidBefore = uint64(time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC).Unix())
		},
			"tunnel.host-certificate-ended"},
		{"one that has not begun", line(authority), func(c *ssh.Certificate) {
			c.ValidAfter = uint64(time.Now().Add(time.Hour).Unix())
		}, "tunnel.host-certificate-ended"},
		{"one for another name", line(authority), func(c *ssh.Certificate) {
			c.ValidPrincipals = []string{"elsewhere.fellside.example"}
		}, "tunnel.host-certificate-other-name"},
		{"an authority that nobody knows", line(stranger), nil, "tunnel.host-certificate-authority"},
		{"an empty file", "\n", nil, "tunnel.host-key-unknown"},
		{"known by its plain key too", line(stranger) + b.sshd.KnownLine("ed25519"), nil, ""},
	} {
		b.sshd.CertifyWith(hostCertificate(t, b.sshd.Keys["ed25519"], authority.Signer, c.change))
		write(t, filepath.Join(b.home, ".ssh/known_hosts"), c.known)
		code, _, p := b.through(b.hop(), nil, to)
		if code != c.code {
			t.Errorf("%s: %q instead of %q: %+v", c.name, code, c.code, p)
		}
		if p == nil {
			continue
		}
		f := finding.Make(p.Code, finding.About{Facts: p.Facts, Again: finding.Again{Name: "huts/staging"}})
		if strings.HasPrefix(c.code, "tunnel.host-certificate") &&
			(strings.Contains(fmt.Sprint(f.Try), "--accept-host-key") ||
				!strings.Contains(fmt.Sprint(p.Facts), Fingerprint(b.sshd.Keys["ed25519"]))) {
			t.Errorf("%s: it advises %v, with %v", c.name, f.Try, p.Facts)
		}
	}
	if own, err := os.ReadFile(filepath.Join(b.home, "own-known")); err == nil {
		t.Errorf("something was learned: %s", own)
	}
}

// TestAnnouncedKeysOfAnOlderVersion has a file without today's first line: what it learned from
// announcements is not believed, is taken out once, and all else stays.
func TestAnnouncedKeysOfAnOlderVersion(t *testing.T) {
	b := newBench(t, nil, "ed25519", "rsa")
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	must(t, os.Remove(filepath.Join(b.home, ".ssh/known_hosts")))
	name := fmt.Sprintf("[127.0.0.1]:%d", b.sshd.Port)
	own := write(t, filepath.Join(b.home, "own-known"),
		Line(name, b.sshd.Keys["ed25519"], "announced 2026-10-01T00:00:00Z")+"\n"+Line("gate",
			b.sshd.Keys["ed25519"], "accepted 2026-10-01T00:00:00Z")+"\n")
	if code, _, _ := b.through(b.hop(), nil, ""); code != "tunnel.host-key-unknown" {
		t.Errorf("%q", code)
	}
	if gone, err := Renew(t.Context(), own); gone != 1 || err != nil {
		t.Errorf("%d %v", gone, err)
	}
	if gone, err := Renew(t.Context(), own); gone != 0 || err != nil {
		t.Errorf("again: %d %v", gone, err)
	}
	text, err := os.ReadFile(own)
	if err != nil || !strings.HasPrefix(string(text), ownFormat+"\ngate ssh-ed25519 ") ||
		strings.Contains(string(text), "announced") {
		t.Errorf("%s %v", text, err)
	}
}

// TestARevokedKeyIsRevokedAtEveryPort has a key revoked for the bare name, beside a line that
// knows it for its port.
func TestARevokedKeyIsRevokedAtEveryPort(t *testing.T) {
	b := newBench(t, nil)
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	revoked := "@revoked 127.0.0.1 " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(b.sshd.Keys["ed25519"])))
	for name, known := range map[string]string{
		"alone": revoked + "\n", "beside a line for the port": b.sshd.KnownLine("ed25519") + revoked + "\n",
		"with a note of many words": b.sshd.KnownLine("ed25519") + revoked + " it was stolen in the winter\n",
		"its authority":             "@cert-authority * " + revoked[len("@revoked 127.0.0.1 "):] + "\n" + revoked + "\n",
	} {
		write(t, filepath.Join(b.home, ".ssh/known_hosts"), known)
		h := b.hop()
		h.Accept = func(context.Context, HostKey) (bool, error) { return true, nil }
		if code, _, _ := b.through(h, nil, ""); code != "tunnel.host-key-revoked" {
			t.Errorf("%s: %q", name, code)
		}
	}
}

// TestOurFileAndTheirs holds which file has the word: the user's and the system's, and this
// program's own only for types of keys of which they say nothing.
func TestOurFileAndTheirs(t *testing.T) {
	b := newBench(t, nil, "ed25519", "rsa")
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	name := fmt.Sprintf("[127.0.0.1]:%d", b.sshd.Port)
	other, ecdsa := jumptest.NewKey(t, filepath.Join(t.TempDir(), "o"), "ed25519", ""), jumptest.NewKey(t,
		filepath.Join(t.TempDir(), "e"), "ecdsa", "")
	own := ownFormat + "\n" + Line(name, b.sshd.Keys["ed25519"], "accepted x") + "\n"
	many := b.sshd.KnownLine("ed25519") + strings.Repeat(Line(name, other.Public, "")+"\n", 50)
	for _, c := range []struct{ name, theirs, own, code string }{
		{"ours alone", "", own, ""},
		{"theirs have a key of its type", Line(name, other.Public, ""), own, "tunnel.host-key-changed"},
		{"theirs have a key of another type", Line(name, ecdsa.Public, ""), own, ""},
		{"theirs know it among many", many, "", ""},
		{"theirs know it, ours knows another", b.sshd.KnownLine("ed25519"),
			ownFormat + "\n" + Line(name, other.Public, "accepted x") + "\n", ""},
		{"ours has another", "", ownFormat + "\n" + Line(name, other.Public, "accepted x") + "\n", "tunnel.host-key-changed"},
		{"ours is too large, theirs know it", b.sshd.KnownLine("ed25519"), strings.Repeat("#", maxKnown+1), ""},
		{"ours is too large, nobody knows it", "", strings.Repeat("#", maxKnown+1), "tunnel.known-hosts"},
	} {
		write(t, filepath.Join(b.home, ".ssh/known_hosts"), c.theirs)
		write(t, filepath.Join(b.home, "own-known"), c.own)
		code, _, p := b.through(b.hop(), nil, "")
		if code != c.code {
			t.Errorf("%s: %q instead of %q", c.name, code, c.code)
		}
		if code == "tunnel.host-key-changed" {
			try := fmt.Sprint(finding.Make(p.Code, finding.About{Facts: p.Facts}).Try)
			if want := map[bool]string{true: "gharbor hops forget " + fmt.Sprintf("127.0.0.1:%d", b.sshd.Port),
				false: "ssh-keygen -f " + filepath.Join(b.home, ".ssh/known_hosts") + " -R '" + name +
					"'"}[c.theirs == ""]; !strings.Contains(try, want) {
				t.Errorf("%s: %s lacks %s", c.name, try, want)
			}
		}
	}
}

// TestAnotherKeyInTheMiddle has a hop that exchanges keys often: with the key that was accepted
// nobody is asked again and nothing is written again, and another key ends the connection.
func TestAnotherKeyInTheMiddle(t *testing.T) {
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "")
	for _, later := range []bool{false, true} {
		_, h := practice(t, standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
			Faults: standin.JumpFaults{OtherKeyLater: later}})
		h.Key, h.Own = key.Path, filepath.Join(h.Config.World.Home, "own")
		must(t, os.Remove(filepath.Join(h.Config.World.Home, ".ssh/known_hosts")))
		write(t, h.Config.User, "RekeyLimit 1K\n")
		asked := 0
		h.Accept = func(context.Context, HostKey) (bool, error) { asked++; return true, nil }
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		passed, err := h.Through(ctx, nil)
		must(t, err)
		cancel() // as a leg's context ends when its leg does
		err = pass(t, passed.Dialer, to, 64<<10)
		if (err != nil) != later || asked != 1 {
			t.Errorf("another key %t: %v, asked %d times", later, err, asked)
		}
		_ = passed.Close()
		own, _ := os.ReadFile(h.Own)
		if n := strings.Count(string(own), " ssh-ed25519 "); n != 1 {
			t.Errorf("another key %t: %d lines were written", later, n)
		}
	}
}

// pass sends bytes to an echo behind a hop, and holds that the same come back.
func pass(t *testing.T, d interface {
	DialContext(context.Context, string, string) (net.Conn, error)
}, to string, n int) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	conn, err := d.DialContext(ctx, "tcp", to)
	if err != nil {
		return err
	}
	defer conn.Close()
	chunk, got := make([]byte, 1<<10), make([]byte, 1<<10)
	for range n / len(chunk) {
		if _, err := conn.Write(chunk); err != nil {
			return err
		}
		for read := 0; read < len(got); {
			n, err := conn.Read(got[read:])
			if err != nil {
				return err
			}
			read += n
		}
	}
	return nil
}

// TestAHopThatDoesNotStopAnnouncing has known hops that announce keys without an end: one that
// proves each fills no file, and one that proves none takes no memory. One whose proof comes too
// late teaches nothing.
func TestAHopThatDoesNotStopAnnouncing(t *testing.T) {
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "")
	for _, c := range []struct{ proves, late bool }{{true, false}, {false, false}, {true, true}} {
		proves := c.proves
		j, h := practice(t, standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
			Faults: standin.JumpFaults{Announce: 2000, Proves: proves}})
		h.Key, h.Own = key.Path, filepath.Join(h.Config.World.Home, "own")
		if h.ProofTime = time.Minute; c.late { // else a busy machine would be late, too
			h.ProofTime = 1
		}
		// The hop is known by this program's own file, so that keys of its type are learned.
		must(t, os.Remove(filepath.Join(h.Config.World.Home, ".ssh/known_hosts")))
		write(t, h.Own, ownFormat+"\n"+Line(fmt.Sprintf("[127.0.0.1]:%d", j.Port()), j.HostKey(), "accepted x")+"\n")
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		goroutines := runtime.NumGoroutine()
		for range 3 {
			passed, err := h.Through(t.Context(), nil)
			must(t, err)
			must(t, pass(t, passed.Dialer, to, 16<<10))
			if n := runtime.NumGoroutine() - goroutines; n > 60 {
				t.Errorf("%d goroutines wait", n)
			}
			_ = passed.Close()
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		if grown := int64(after.HeapAlloc) - int64(before.HeapAlloc); grown > 8<<20 {
			t.Errorf("proves %t: %d bytes more are held", proves, grown)
		}
		own, err := os.ReadFile(h.Own)
		must(t, err)
		asked := 0
		for _, each := range j.Tried() {
			if each == "asked for a proof" {
				asked++
			}
		}
		if n := strings.Count(string(own), noteAnnounced); n > maxLearned ||
			proves && (asked == 0 || asked > 3) || !proves && n > 0 || c.late && n > 0 || proves && !c.late && n == 0 {
			t.Errorf("proves %t: %d keys were learned, %d proofs asked for", proves, n, asked)
		}
	}
}

// TestRoomForAnnouncedKeys holds the bounds of what is learned by announcements.
func TestRoomForAnnouncedKeys(t *testing.T) {
	own := filepath.Join(t.TempDir(), "own")
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "").Public
	line := Line("gate", key, noteAnnounced+" x")
	for range maxLearned {
		must(t, learnAnnounced(t.Context(), own, "gate", []string{line}))
	}
	if err := learnAnnounced(t.Context(), own, "gate", []string{line}); !errors.Is(err, errFull) {
		t.Errorf("one more of a hop: %v", err)
	}
	must(t, learnAnnounced(t.Context(), own, "other", []string{Line("other", key, noteAnnounced+" x")}))
	write(t, own, ownFormat+"\n"+strings.Repeat("# filled\n", maxOwn/9))
	if err := learnAnnounced(t.Context(), own, "other", []string{line}); !errors.Is(err, errFull) {
		t.Errorf("a full file: %v", err)
	}
	must(t, learn(t.Context(), own, line)) // what a person accepts has room
}

// TestOneNameForAChain has users of hops whose names hold what separates names, or patterns: a
// key that is accepted behind them is known for that route alone.
func TestOneNameForAChain(t *testing.T) {
	gate := OwnName(target.Hop{Host: "gate.fellside.example"}, nil)
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "").Public
	for _, user := range []string{",gate.fellside.example,x", "*", "?", "!a", "#", "|1|a|b", "%2C", "a b", "Ops"} {
		before := []target.Hop{{User: user, Host: "evil.fellside.example"}}
		name := OwnName(target.Hop{Host: "db"}, before)
		var keys HostKeys
		keys.add("own", []byte(ownFormat+"\n"+Line(name, key, "accepted x")+"\n"))
		if len(of(t, keys, gate)) > 0 || len(of(t, keys, name)) != 1 ||
			len(of(t, keys, OwnName(target.Hop{Host: "db"},
				[]target.Hop{{User: "warden", Host: "evil.fellside.example"}}))) > 0 {
			t.Errorf("%q: %q", user, name)
		}
	}
}

// of gives the lines for a name.
func of(t *testing.T, keys HostKeys, name string) []KnownKey {
	t.Helper()
	list, err := keys.Of(name)
	must(t, err)
	return list
}

// TestManyLinesForAName refuses a file that has more lines for one name than are looked at: none
// of them is passed over.
func TestManyLinesForAName(t *testing.T) {
	line := "gate ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJdD7y3aLq454yWBdwLWbieU1ebz9/cu7/QEXn9OIeZJ\n"
	var keys HostKeys
	keys.add("known", []byte(strings.Repeat(line, maxFor)+strings.Repeat(strings.Replace(line, "gate", "bunk", 1), 3)))
	if len(of(t, keys, "gate")) != maxFor || len(of(t, keys, "bunk")) != 3 {
		t.Errorf("%d and %d lines", len(of(t, keys, "gate")), len(of(t, keys, "bunk")))
	}
	keys.add("more", []byte(line))
	if list, err := keys.Of("gate"); err == nil || list != nil ||
		!strings.Contains(err.Error(), "more has more than 5000 lines for gate") {
		t.Errorf("%d lines, %v", len(list), err)
	}
}

func FuzzKnownHosts(f *testing.F) {
	key := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJdD7y3aLq454yWBdwLWbieU1ebz9/cu7/QEXn9OIeZJ"
	for _, seed := range []string{"gate " + key, "@revoked * " + key + " a note of words",
		"@cert-authority [gate]:2222,!db " + key, "|1|x|y " + key, "\tgate\t" + key + "\r\n", "@x gate " + key,
		"@revoked", "gate ssh-ed25519 AAAA="} {
		f.Add(seed)
	}
	now := time.Now()
	f.Fuzz(func(t *testing.T, text string) {
		var keys HostKeys
		keys.add("known", []byte(text))
		for _, line := range keys.Lines() {
			if line.Key == nil || line.Line < 1 ||
				line.Marker != "" && line.Marker != markRevoked && line.Marker != markAuthority {
				t.Errorf("%q: %+v", text, line)
			}
			found := trust{theirs: of(t, keys, "gate"), bare: of(t, keys, "db"), signing: signing}.judge(line.Key, now)
			if line.Marker == markRevoked && line.names("gate") && found.Verdict != Revoked {
				t.Errorf("%q: a revoked key is %d", text, found.Verdict)
			}
		}
		if content, _ := believed([]byte(text)); !strings.HasPrefix(string(content), ownFormat) {
			t.Errorf("%q becomes %q", text, content)
		}
	})
}
