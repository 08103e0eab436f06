package wallet

import (
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
)

// The file succession says which key came after which: a line "OLD NEW SIGNATURE" for each change
// of keys, all in base64. The old key signs the new one, so that whoever knows a wallet by an old
// key knows it by the new one too, however many changes were made on another machine. It holds
// nothing secret, and proves nothing by itself.
const successionName = "succession"

// Bounds of the file.
const (
	maxSuccession  = 64 << 10
	maxSuccessions = 200
)

func encodedKey(key ed25519.PublicKey) string { return base64.StdEncoding.EncodeToString(key) }

// succeeding is what the old key signs.
func succeeding(id, fresh string) []byte {
	return fmt.Appendf(nil, "gentle-harbor wallet succession 1 %s %s\n", id, fresh)
}

// succeed adds a line for new keys that follow old ones.
func (w Wallet) succeed(id string, old, fresh keys) error {
	lines := w.successions()
	line := encodedKey(old.verify) + " " + encodedKey(fresh.verify) + " " +
		base64.StdEncoding.EncodeToString(ed25519.Sign(old.signing, succeeding(id, encodedKey(fresh.verify))))
	lines = append(lines[max(0, len(lines)-maxSuccessions+1):], line)
	return w.write(successionName, []byte(strings.Join(lines, "\n")+"\n"))
}

func (w Wallet) successions() []string {
	data, err := files.ReadOwn(w.path(successionName), maxSuccession)
	if err != nil {
		return nil // without it, only the keys that are known count
	}
	return strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
}

// follows reports whether a key is one of the trusted ones, or follows one of them in the file
// succession.
func (w Wallet) follows(id string, trusted []string, key string) bool {
	lines := w.successions()
	trusted = slices.Clone(trusted)
	for i := 0; i < len(trusted); i++ { // it grows while it is walked
		if trusted[i] == key {
			return true
		}
		for _, line := range lines {
			words := strings.Fields(line)
			if len(words) != 3 || words[0] != trusted[i] || slices.Contains(trusted, words[1]) {
				continue
			}
			old, err := base64.StdEncoding.Strict().DecodeString(words[0])
			signature, err2 := base64.StdEncoding.Strict().DecodeString(words[2])
			if err == nil && err2 == nil && len(old) == ed25519.PublicKeySize &&
				ed25519.Verify(old, succeeding(id, words[1]), signature) {
				trusted = append(trusted, words[1])
			}
		}
	}
	return false
}
