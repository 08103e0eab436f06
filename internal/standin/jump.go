package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"iter"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// JumpConfig says what a practice jump host knows and does.
type JumpConfig struct {
	// Passwords are the accounts' passwords, Keys the public keys that may log in as anyone.
	// Questions are asked by keyboard-interactive, each with its answer.
	Passwords map[string]string
	Keys      []ssh.PublicKey
	Questions [][2]string
	// Both asks for a key and then the answers.
	Both bool
	// Forwards maps the addresses that may be reached, "host:port", to where they really are.
	// Others do not exist. Nil forwards to every address as it is.
	Forwards map[string]string
	// Inside are servers that this host alone reaches, by "host:port".
	Inside map[string]func() (net.Conn, error)
	Faults JumpFaults
}

// JumpFaults are ways in which a jump host can misbehave.
type JumpFaults struct {
	EndlessBanner bool          // words without an end before the login
	ByByte        time.Duration // each byte takes this long
	WrongBytes    bool          // what is forwarded is not what was sent
	Forbid        bool          // logs in, and forwards nothing
	NoAnswer      bool          // never answers a request for a forward
	Banner        string        // a hop's words before the login
	// Announce is how many times after a login it announces host keys (hostkeys-00 of OpenSSH),
	// each time others. Proves says that it proves them when it is asked.
	Announce int
	Proves   bool
	// OtherKeyLater shows another host key of the same type from the second key exchange of a
	// connection on, and exchanges keys after each kilobyte.
	OtherKeyLater bool
}

// Jump is a practice jump host on 127.0.0.1, for tests and for the demo: it forwards connections,
// and does nothing else.
type Jump struct {
	config   JumpConfig
	listener net.Listener
	key      ssh.Signer
	mu       sync.Mutex
	conns    map[net.Conn]bool
	tried    []string // what was offered, "user method"
	typed    []string // every password and answer that came
}

// StartJump starts a jump host.
func StartJump(config JumpConfig) (*Jump, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	j := &Jump{config: config, conns: map[net.Conn]bool{}}
	if j.key, err = ssh.NewSignerFromKey(private); err != nil {
		return nil, err
	}
	if j.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	go j.serve()
	return j, nil
}

// Port gives the port.
func (j *Jump) Port() int { return j.listener.Addr().(*net.TCPAddr).Port }

// HostKey gives the public host key.
func (j *Jump) HostKey() ssh.PublicKey { return j.key.PublicKey() }

// Typed gives every password and answer that came.
func (j *Jump) Typed() []string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return slices.Clone(j.typed)
}

// Tried gives what was offered, "USER METHOD" for each.
func (j *Jump) Tried() []string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return slices.Clone(j.tried)
}

func (j *Jump) note(user, method, typed string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.tried = append(j.tried, user+" "+method)
	if typed != "" {
		j.typed = append(j.typed, typed)
	}
}

// Close ends it, with all logins.
func (j *Jump) Close() {
	_ = j.listener.Close()
	j.Drop()
}

// Drop ends all logins.
func (j *Jump) Drop() {
	j.mu.Lock()
	defer j.mu.Unlock()
	for conn := range j.conns {
		_ = conn.Close()
	}
}

func (j *Jump) serve() {
	for {
		conn, err := j.listener.Accept()
		if err != nil {
			return
		}
		j.mu.Lock()
		j.conns[conn] = true
		j.mu.Unlock()
		go func() {
			defer conn.Close()
			j.login(conn)
		}()
	}
}

var errRefused = errors.New("not with this")

func (j *Jump) login(conn net.Conn) {
	if j.config.Faults.EndlessBanner {
		for {
			if _, err := conn.Write([]byte(strings.Repeat("wind over the pass ", 50) + "\r\n")); err != nil {
				return
			}
		}
	}
	if j.config.Faults.ByByte > 0 {
		conn = slowConn{conn, j.config.Faults.ByByte}
	}
	answers := func(c ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
		if len(j.config.Questions) == 0 {
			return nil, errRefused
		}
		var questions []string
		for _, each := range j.config.Questions {
			questions = append(questions, each[0])
		}
		got, err := ask("", "Practice jump host", questions, make([]bool, len(questions)))
		if err != nil {
			return nil, err
		}
		for i, each := range j.config.Questions {
			j.note(c.User(), "keyboard-interactive", got[i])
			if got[i] != each[1] {
				return nil, errRefused
			}
		}
		return nil, nil
	}
	config := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-practice-jump-host",
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			j.note(c.User(), "publickey", "")
			if !slices.ContainsFunc(j.config.Keys, func(k ssh.PublicKey) bool {
				return string(k.Marshal()) == string(key.Marshal())
			}) {
				return nil, errRefused
			}
			if j.config.Both {
				return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{KeyboardInteractiveCallback: answers}}
			}
			return nil, nil
		},
	}
	if j.config.Passwords != nil {
		config.PasswordCallback = func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			j.note(c.User(), "password", string(password))
			if want, known := j.config.Passwords[c.User()]; !known || want != string(password) {
				return nil, errRefused
			}
			return nil, nil
		}
	}
	if len(j.config.Questions) > 0 && !j.config.Both {
		config.KeyboardInteractiveCallback = answers
	}
	if j.config.Faults.Banner != "" {
		config.BannerCallback = func(ssh.ConnMetadata) string { return j.config.Faults.Banner }
	}
	config.AddHostKey(j.key)
	if j.config.Faults.OtherKeyLater {
		config.RekeyThreshold = 1 << 10
		config.AddHostKey(&fickle{Signer: j.key})
	}
	session, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer session.Close()
	if j.config.Faults.Announce > 0 {
		keys := j.announce(session)
		go j.answer(session, requests, keys)
	} else {
		go ssh.DiscardRequests(requests)
	}
	for channel := range channels {
		go j.forward(channel)
	}
}

// forward passes a connection on (RFC 4254, section 7.2).
func (j *Jump) forward(asked ssh.NewChannel) {
	var to struct {
		Host     string
		Port     uint32
		From     string
		FromPort uint32
	}
	switch {
	case asked.ChannelType() != "direct-tcpip" || ssh.Unmarshal(asked.ExtraData(), &to) != nil:
		_ = asked.Reject(ssh.UnknownChannelType, "only forwards are done here")
		return
	case j.config.Faults.Forbid:
		_ = asked.Reject(ssh.Prohibited, "forwards are not done here")
		return
	case j.config.Faults.NoAnswer:
		return
	}
	address := net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port)))
	dial := j.config.Inside[address]
	if dial == nil && (j.config.Forwards != nil || j.config.Inside != nil) {
		real, known := j.config.Forwards[address]
		if !known {
			words := "Name or service not known"
			for each := range j.addresses() {
				if host, _, err := net.SplitHostPort(each); err == nil && host == to.Host {
					words = "Connection refused" // the machine is there, and nothing listens
				}
			}
			_ = asked.Reject(ssh.ConnectionFailed, words)
			return
		}
		address = real
	}
	if dial == nil {
		dial = func() (net.Conn, error) { return net.Dial("tcp", address) }
	}
	server, err := dial()
	if err != nil {
		_ = asked.Reject(ssh.ConnectionFailed, "Connection refused")
		return
	}
	channel, requests, err := asked.Accept()
	if err != nil {
		_ = server.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	go func() {
		_, _ = io.Copy(server, channel)
		if half, can := server.(interface{ CloseWrite() error }); can {
			_ = half.CloseWrite()
		} else {
			_ = server.Close()
		}
	}()
	var from io.Reader = server
	if j.config.Faults.WrongBytes {
		from = wrong{server}
	}
	_, _ = io.Copy(channel, from)
	_ = channel.Close()
	_ = server.Close()
}

// addresses gives each address that may be reached.
func (j *Jump) addresses() iter.Seq[string] {
	return func(yield func(string) bool) {
		for each := range j.config.Forwards {
			if !yield(each) {
				return
			}
		}
		for each := range j.config.Inside {
			if !yield(each) {
				return
			}
		}
	}
}

// slowConn writes a byte at a time.
type slowConn struct {
	net.Conn
	each time.Duration
}

// Write writes slowly.
func (s slowConn) Write(p []byte) (int, error) {
	for i := range p {
		time.Sleep(s.each)
		if _, err := s.Conn.Write(p[i : i+1]); err != nil {
			return i, err
		}
	}
	return len(p), nil
}

// wrong changes every byte.
type wrong struct{ io.Reader }

// Read reads and changes.
func (w wrong) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	for i := range p[:n] {
		p[i] ^= 0x55
	}
	return n, err
}
