package wallet

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"filippo.io/age"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

// WorkFactor is the work that a passphrase costs: scrypt with N = 2 to the power of it (RFC
// 7914), about a second. The product uses no other.
const WorkFactor = 18

// keys are a wallet's own: one to read with, one to sign with. Signing is nil where only reading
// is possible.
type keys struct {
	reading *age.X25519Identity
	signing ed25519.PrivateKey
	verify  ed25519.PublicKey
}

func newKeys() (keys, error) {
	reading, err := age.GenerateX25519Identity()
	if err != nil {
		return keys{}, err
	}
	verify, signing, err := ed25519.GenerateKey(rand.Reader)
	return keys{reading, signing, verify}, err
}

// The text of the keys is a line for each: "reading AGE-SECRET-KEY-1…", and "signing" with the
// seed or "verify" with the public key, in base64. While new keys are being put instead of old
// ones, both are there, the new ones first.
func writeKeys(list []keys, private bool) []byte {
	var b bytes.Buffer
	for _, k := range list {
		fmt.Fprintf(&b, "reading %s\n", k.reading)
		if private {
			fmt.Fprintf(&b, "signing %s\n", base64.StdEncoding.EncodeToString(k.signing.Seed()))
		} else {
			fmt.Fprintf(&b, "verify %s\n", base64.StdEncoding.EncodeToString(k.verify))
		}
	}
	return b.Bytes()
}

func readKeys(text []byte, private bool) ([]keys, error) {
	broken := errors.New("the keys cannot be read")
	lines := strings.Split(string(text), "\n")
	if len(lines) != 3 && len(lines) != 5 || lines[len(lines)-1] != "" {
		return nil, broken
	}
	var list []keys
	for pair := range slices.Chunk(lines[:len(lines)-1], 2) {
		reading, ok := strings.CutPrefix(pair[0], "reading ")
		identity, err := age.ParseX25519Identity(reading)
		if !ok || err != nil || identity.String() != reading {
			return nil, broken
		}
		word, size := "verify ", ed25519.PublicKeySize
		if private {
			word, size = "signing ", ed25519.SeedSize
		}
		encoded, ok := strings.CutPrefix(pair[1], word)
		data, err := base64.StdEncoding.Strict().DecodeString(encoded)
		if !ok || err != nil || len(data) != size {
			return nil, broken
		}
		k := keys{reading: identity, verify: data}
		if private {
			k.signing = ed25519.NewKeyFromSeed(data)
			k.verify = k.signing.Public().(ed25519.PublicKey)
		}
		list = append(list, k)
	}
	return list, nil
}

// statedWork opens what a passphrase has sealed with just the work factor that is stated; any
// other is refused before the work is done.
type statedWork struct {
	*age.ScryptIdentity
	factor int
}

var errOtherWork = errors.New("sealed with another work factor")

// Unwrap checks the header's only stanza and then does the work.
func (s statedWork) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	if len(stanzas) != 1 || stanzas[0].Type != "scrypt" || len(stanzas[0].Args) != 2 ||
		stanzas[0].Args[1] != strconv.Itoa(s.factor) {
		return nil, errOtherWork
	}
	return s.ScryptIdentity.Unwrap(stanzas)
}

func (w Wallet) factor() int {
	if w.WorkFactor == 0 {
		return WorkFactor
	}
	return w.WorkFactor
}

// sealOwner makes the file owner: the keys, sealed with the passphrase.
func (w Wallet) sealOwner(id string, list []keys, passphrase secret.Secret) ([]byte, error) {
	recipient, err := age.NewScryptRecipient(passphrase.Reveal())
	if err != nil {
		return nil, err
	}
	recipient.SetWorkFactor(w.factor())
	body, err := encrypt(writeKeys(list, true), recipient)
	return frame{"owner", id, 0, body}.bytes(), err
}

// openOwner gives the wallet's keys. The error is a *finding.Problem.
func (w Wallet) openOwner(passphrase secret.Secret) (string, []keys, error) {
	path := w.path(ownerName)
	f, err := w.read(ownerName, "owner", maxKeys)
	if err != nil {
		return "", nil, err
	}
	identity, err := age.NewScryptIdentity(passphrase.Reveal())
	if err != nil {
		return "", nil, problem(finding.SecretWalletPassphrase, path, "does not open with an empty passphrase.")
	}
	identity.SetMaxWorkFactor(w.factor())
	text, err := decrypt(f.body, maxKeys, statedWork{identity, w.factor()})
	switch {
	case errors.Is(err, errOtherWork):
		return "", nil, problem(finding.SecretWalletWorkFactor, path,
			"was not sealed with the work factor %d that this program uses, so it was not written by it.", w.factor())
	case errors.Is(err, age.ErrIncorrectIdentity):
		return "", nil, problem(finding.SecretWalletPassphrase, path, "does not open with this passphrase.")
	case err != nil || f.version != 0:
		return "", nil, problem(finding.SecretWalletDamaged, path, "is damaged.")
	}
	list, err := readKeys(text, true)
	if err != nil {
		return "", nil, problem(finding.SecretWalletDamaged, path, "is damaged: %v.", err)
	}
	return f.id, list, nil
}

func encrypt(text []byte, to age.Recipient) ([]byte, error) {
	var b bytes.Buffer
	out, err := age.Encrypt(&b, to)
	if err != nil {
		return nil, err
	}
	if _, err := out.Write(text); err != nil {
		return nil, err
	}
	err = out.Close()
	return b.Bytes(), err
}

func decrypt(body []byte, limit int64, with age.Identity) ([]byte, error) {
	in, err := age.Decrypt(bytes.NewReader(body), with)
	if err != nil {
		return nil, err
	}
	b := bytes.NewBuffer(make([]byte, 0, len(body)))
	if _, err := io.Copy(b, io.LimitReader(in, limit+1)); err != nil {
		return nil, err
	}
	if int64(b.Len()) > limit {
		return nil, errors.New("too large")
	}
	return b.Bytes(), nil
}

// signed is what the signature of sealed covers: what the wallet is, which version, and the
// encrypted content.
func signed(id string, version uint64, sealed []byte) []byte {
	return append(fmt.Appendf(nil, "gentle-harbor wallet sealed 1 %s %d\n", id, version), sealed...)
}
