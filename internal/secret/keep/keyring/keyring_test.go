package keyring

import (
	"testing"

	"gentle-harbor/internal/target"
)

// FuzzItem reads what another program may have put into the keyring.
func FuzzItem(f *testing.F) {
	f.Add(`{"format":1,"user":"warden_app","host":"h","port":1,"tls":"off","secret":"x"}`)
	f.Add(`{"format":1,"user":"u","socket":"/s","tls":"verify","secret_bytes":"/w=="}`)
	f.Add(`{"format":2}`)
	f.Fuzz(func(t *testing.T, text string) {
		if dest, _, ok := readItem(text); ok && (dest.User == "" || target.Strength(dest.TLS) < 0) {
			t.Errorf("%q is taken", text)
		}
	})
}
