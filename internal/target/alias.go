package target

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strconv"
	"strings"
)

// Definition is what an alias stood for when a secret was kept for it: digests (the first 16
// bytes of SHA-256, in hexadecimal digits).
type Definition struct {
	// Addresses has one for each address, in order of the alphabet.
	Addresses []string `json:"addresses,omitempty"`
	// How is of the encryption, the authority's content, the server's name and the hops.
	How string `json:"how,omitempty"`
}

func digest(parts ...string) string {
	sum := sha256.New()
	for _, part := range parts {
		sum.Write([]byte(strconv.Itoa(len(part)) + ":" + part))
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// String gives the definition as one word, as a credential file has it: the digests of the
// addresses, and that of the rest.
func (d Definition) String() string {
	if d.How == "" {
		return ""
	}
	return strings.Join(append(slices.Clone(d.Addresses), d.How), ".")
}

// ParseDefinition reads what String gives.
func ParseDefinition(text string) (Definition, bool) {
	parts := strings.Split(text, ".")
	for _, part := range parts {
		if raw, err := hex.DecodeString(part); err != nil || len(raw) != 16 {
			return Definition{}, false
		}
	}
	return Definition{Addresses: parts[:len(parts)-1], How: parts[len(parts)-1]}, len(parts) > 1
}
