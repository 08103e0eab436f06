//go:build unix

package jump

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/route/routetest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/standin"
	"gentle-harbor/internal/target"
)

// practice starts a practice jump host, and gives a hop that knows it.
func practice(t *testing.T, config standin.JumpConfig) (*standin.Jump, *Hop) {
	t.Helper()
	j, err := standin.StartJump(config)
	must(t, err)
	t.Cleanup(j.Close)
	home := t.TempDir()
	write(t, filepath.Join(home, ".ssh/known_hosts"),
		fmt.Sprintf("[127.0.0.1]:%d %s", j.Port(), ssh.MarshalAuthorizedKey(j.HostKey())))
	return j, &Hop{Hop: target.Hop{User: "ops", Host: "127.0.0.1", Port: j.Port()},
		Config: Config{User: filepath.Join(home, ".ssh/config"), World: World{Home: home, User: "w"}}}
}

func gives(text string) func(context.Context, string, int) (secret.Secret, secret.Source, error) {
	return func(context.Context, string, int) (secret.Secret, secret.Source, error) {
		return secret.New(text), secret.Source{Kind: secret.Wallet, Saw: "kept in the wallet"}, nil
	}
}

// TestPasswordsAndQuestions logs in with a password and with answers, and holds what is sent where.
func TestPasswordsAndQuestions(t *testing.T) {
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "")
	person := func(answers ...string) func(context.Context, string, bool) (secret.Secret, error) {
		return func(_ context.Context, question string, _ bool) (secret.Secret, error) {
			if len(answers) == 0 {
				t.Errorf("asked once more: %s", question)
				return secret.Secret{}, errors.New("enough")
			}
			next := answers[0]
			answers = answers[1:]
			return secret.New(next), nil
		}
	}
	for _, c := range []struct {
		name   string
		config standin.JumpConfig
		make   func(h *Hop)
		code   string
		typed  string // what the hop got, joined
	}{
		{"a password", standin.JumpConfig{Passwords: map[string]string{"ops": canary}}, func(h *Hop) {
			h.Password = gives(canary)
		}, "", canary},
		{"a wrong password is sent once", standin.JumpConfig{Passwords: map[string]string{"ops": "other"}},
			func(h *Hop) { h.Password = gives(canary) }, "tunnel.login-refused", canary},
		{"no password to send", standin.JumpConfig{Passwords: map[string]string{"ops": canary}}, func(h *Hop) {
			h.Password = func(context.Context, string, int) (secret.Secret, secret.Source, error) {
				return secret.Secret{}, secret.Source{}, &finding.Problem{Code: finding.SecretNone}
			}
		}, "tunnel.login-refused", ""},
		{"a wallet that cannot be opened ends it",
			standin.JumpConfig{Passwords: map[string]string{"ops": canary}}, func(h *Hop) {
				h.Password = func(context.Context, string, int) (secret.Secret, secret.Source, error) {
					return secret.Secret{}, secret.Source{}, &finding.Problem{Code: finding.SecretWalletDamaged}
				}
			}, "secret.wallet-damaged", ""},
		{"passwords switched off", standin.JumpConfig{Passwords: map[string]string{"ops": canary}}, func(h *Hop) {
			h.Password = gives(canary)
			write(t, h.Config.User, "PasswordAuthentication no\n")
		}, "tunnel.login-refused", ""},
		{"one hidden question gets the password",
			standin.JumpConfig{Questions: [][2]string{{"Password: ", canary}}}, func(h *Hop) {
				h.Password = gives(canary)
			}, "", canary},
		{"two questions get a person",
			standin.JumpConfig{Questions: [][2]string{{"Password: ", canary}, {"Code: ", "123456"}}},
			func(h *Hop) { h.Answer = person(canary, "123456"); h.Password = gives("kept") }, "", canary + " 123456"},
		{"two questions and nobody", standin.JumpConfig{Questions: [][2]string{{"Password: ", canary},
			{"Code: ", "1"}}}, func(h *Hop) { h.Password = gives(canary) }, "tunnel.login-refused", ""},
		{"a key and then a code", standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
			Questions: [][2]string{{"Code: ", "77"}}, Both: true}, func(h *Hop) {
			h.Key, h.Answer = key.Path, person("77")
		}, "", "77"},
		{"a key and a wrong code", standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
			Questions: [][2]string{{"Code: ", "77"}}, Both: true}, func(h *Hop) {
			h.Key, h.Answer = key.Path, person("78")
		}, "tunnel.login-refused", "78"},
		{"forbidden", standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
			Faults: standin.JumpFaults{Forbid: true}}, func(h *Hop) { h.Key = key.Path },
			"tunnel.forwarding-forbidden", ""},
		{"another host key", standin.JumpConfig{Passwords: map[string]string{"ops": canary}}, func(h *Hop) {
			h.Password = gives(canary)
			write(t, filepath.Join(h.Config.World.Home, ".ssh/known_hosts"),
				fmt.Sprintf("[127.0.0.1]:%d %s", h.Hop.Port, ssh.MarshalAuthorizedKey(key.Public)))
		}, "tunnel.host-key-changed", ""},
		{"an unknown host key", standin.JumpConfig{Passwords: map[string]string{"ops": canary}}, func(h *Hop) {
			h.Password = gives(canary)
			must(t, os.Remove(filepath.Join(h.Config.World.Home, ".ssh/known_hosts")))
		}, "tunnel.host-key-unknown", ""},
	} {
		j, h := practice(t, c.config)
		c.make(h)
		code, _, p := (&bench{t: t}).through(h, nil, to)
		if code != c.code || strings.Join(j.Typed(), " ") != c.typed {
			t.Errorf("%s: %q instead of %q, the hop got %q; %+v", c.name, code, c.code, j.Typed(), p)
		}
	}
}

// TestHostileHops meets hops that do not stop talking, are slow, do not answer, or change what
// passes: none gets a secret, and none holds anybody beyond the limit.
func TestHostileHops(t *testing.T) {
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "")
	for name, faults := range map[string]standin.JumpFaults{
		"words without an end": {EndlessBanner: true}, "a byte at a time": {ByByte: 20 * time.Millisecond},
		"no answer to a forward": {NoAnswer: true},
	} {
		j, h := practice(t, standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
			Passwords: map[string]string{"ops": "x"}, Faults: faults})
		h.Key, h.Password = key.Path, gives(canary)
		ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
		began := time.Now()
		passed, err := h.Through(ctx, nil)
		if err == nil {
			_, err = passed.DialContext(ctx, "tcp", to)
			_ = passed.Close()
		}
		cancel()
		if err == nil || time.Since(began) > 6*time.Second {
			t.Errorf("%s: %v after %s", name, err, time.Since(began))
		}
		if slices.Contains(j.Typed(), canary) {
			t.Errorf("%s: it got the password", name)
		}
	}
	_, h := practice(t, standin.JumpConfig{Keys: []ssh.PublicKey{key.Public},
		Faults: standin.JumpFaults{Banner: "\x1b[2Jwelcome " + strings.Repeat("x", 20000), WrongBytes: true}})
	h.Key = key.Path
	passed, err := h.Through(t.Context(), nil)
	if err != nil {
		t.Fatalf("%v", problem(err))
	}
	if strings.Contains(passed.Saw, "\x1b") {
		t.Error("its words are not cleaned")
	}
	_ = passed.Close()
}

// TestAQuestionInVain ends a login while a person is asked for the hop's key: the question ends
// first, and an answer that comes too late teaches nothing.
func TestAQuestionInVain(t *testing.T) {
	for _, answer := range []string{"yes", "none"} {
		j, h := practice(t, standin.JumpConfig{Passwords: map[string]string{"ops": canary}})
		h.Own = filepath.Join(h.Config.World.Home, "known")
		must(t, os.Remove(filepath.Join(h.Config.World.Home, ".ssh/known_hosts")))
		h.Password = gives(canary)
		whole, cancel := context.WithCancel(t.Context())
		var ended atomic.Bool
		h.Accept = func(ctx context.Context, _ HostKey) (bool, error) {
			cancel()
			<-ctx.Done()
			defer ended.Store(true)
			return answer == "yes", map[bool]error{false: ctx.Err()}[answer == "yes"]
		}
		if _, err := h.Through(whole, nil); err == nil || !ended.Load() {
			t.Errorf("%s: %v, the question ended: %v", answer, err, ended.Load())
		}
		if data, err := os.ReadFile(h.Own); err == nil || len(j.Typed()) > 0 {
			t.Errorf("%s: it was learned, or told something: %s %q", answer, data, j.Typed())
		}
	}
}

// TestNothingIsLeft logs in and out, and fails, many times: no goroutine and no descriptor stays.
func TestNothingIsLeft(t *testing.T) {
	key := jumptest.NewKey(t, filepath.Join(t.TempDir(), "k"), "ed25519", "")
	_, good := practice(t, standin.JumpConfig{Keys: []ssh.PublicKey{key.Public}})
	good.Key = key.Path
	_, bad := practice(t, standin.JumpConfig{})
	to := fmt.Sprintf("127.0.0.1:%d", routetest.Echo(t, ""))
	once := func() {
		passed, err := good.Through(t.Context(), nil)
		if err != nil {
			t.Fatalf("%v", problem(err))
		}
		conn, err := passed.DialContext(t.Context(), "tcp", to)
		must(t, err)
		_, _ = conn.Write([]byte("x"))
		_, _ = io.ReadFull(conn, make([]byte, 1))
		_ = conn.Close()
		_ = passed.Close()
		if _, err := bad.Through(t.Context(), nil); err == nil {
			t.Fatal("let in")
		}
	}
	once()
	count := func() (goroutines, descriptors int) {
		entries, _ := os.ReadDir("/proc/self/fd")
		return runtime.NumGoroutine(), len(entries)
	}
	time.Sleep(100 * time.Millisecond)
	before, files := count()
	for range 30 {
		once()
	}
	var after, filesAfter int
	for range 100 {
		if after, filesAfter = count(); after <= before+2 && filesAfter <= files+2 {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Errorf("%d goroutines became %d, %d descriptors %d", before, after, files, filesAfter)
}
