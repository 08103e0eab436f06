// Package worldtest makes worlds for the tests of what is built on them.
package worldtest

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/harbor/world"
)

// Canary is the password that PW of a new world has. No output may show it.
const Canary = "canary-5b2f-Secret"

// New gives a world with a home of its own, the answers of a person, and what it notes.
func New(t *testing.T, answers ...[2]string) (*world.World, *Script, *[]string) {
	t.Helper()
	home := t.TempDir()
	who := &Script{Lines: answers}
	var notes []string
	return &world.World{
		WalletWork: 10,
		Environ:    []string{"GHARBOR_HOME=" + home, "PW=" + Canary}, Dir: home, Stdin: strings.NewReader(""), Who: who,
		Say: func(text string) { notes = append(notes, text) },
	}, who, &notes
}

// Save writes the file of a profile.
func Save(t *testing.T, w *world.World, name, text string) {
	t.Helper()
	path := file(t, w, name)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)); err != nil {
		t.Fatal(err)
	}
}

// Text gives what the file of a profile has.
func Text(t *testing.T, w *world.World, name string) string {
	t.Helper()
	data, err := os.ReadFile(file(t, w, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// Records is a name service that has SRV records, and one address for every name.
type Records []*net.SRV

// LookupNetIP gives 127.0.0.1.
func (Records) LookupNetIP(context.Context, string, string) ([]netip.Addr, error) {
	return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}, nil
}

// LookupSRV gives the records.
func (r Records) LookupSRV(context.Context, string, string, string) (string, []*net.SRV, error) {
	return "", r, nil
}

// LookupTXT gives none: see [Texts].
func (r Records) LookupTXT(context.Context, string) ([]string, error) { return nil, nil }

// Texts is a name service with TXT records beside the SRV records. It knows no name that begins with
// "lost".
type Texts struct {
	Records
	TXT []string
}

// LookupTXT gives the texts.
func (s Texts) LookupTXT(context.Context, string) ([]string, error) { return s.TXT, nil }

// LookupNetIP gives 127.0.0.1, or that the name is not there.
func (s Texts) LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error) {
	if strings.HasPrefix(host, "lost") {
		return nil, &net.DNSError{IsNotFound: true, Name: host}
	}
	return s.Records.LookupNetIP(ctx, network, host)
}

var _ alias.Services = Texts{}

func file(t *testing.T, w *world.World, name string) string {
	t.Helper()
	home, err := w.Home()
	if err != nil {
		t.Fatal(err)
	}
	return filepath.Join(home, "profiles", name+".yaml")
}
