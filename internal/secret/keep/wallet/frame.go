package wallet

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
)

// The names of a wallet's files.
const (
	sealedName     = "sealed"
	ownerName      = "owner"
	unattendedName = "unattended"
	previousName   = "sealed.previous"
	damagedName    = "sealed.damaged"
)

// The most bytes that the files may have.
const (
	maxSealed = 28 << 20
	maxKeys   = 16 << 10
)

// frame is what each file of a wallet is wrapped in: one line that says what follows, and then
// that.
//
//	gentle-harbor wallet KIND 1 ID VERSION BYTES SHA256
//
// KIND is sealed, owner or unattended; 1 is the format; ID names the wallet (32 hexadecimal
// digits); VERSION counts the writes of sealed, and is 0 for the others; BYTES is how many bytes
// follow, SHA256 their digest. Each stands in just one form, so that no bit of the line can
// change and mean the same.
type frame struct {
	kind    string
	id      string
	version uint64
	body    []byte
}

func (f frame) bytes() []byte {
	sum := sha256.Sum256(f.body)
	head := fmt.Sprintf("gentle-harbor wallet %s 1 %s %d %d %s\n", f.kind, f.id, f.version, len(f.body),
		hex.EncodeToString(sum[:]))
	return append([]byte(head), f.body...)
}

// problem makes a finding about a file.
func problem(code finding.Code, path, format string, more ...any) *finding.Problem {
	return &finding.Problem{Code: code,
		Facts: finding.Facts{finding.FactDetail: path + " " + fmt.Sprintf(format, more...)}}
}

// parseFrame takes a file apart; kind is what it must be. The error is a *finding.Problem.
func parseFrame(data []byte, path, kind string) (frame, error) {
	var f frame
	if len(data) == 0 {
		return f, problem(finding.SecretWalletEmpty, path, "is empty.")
	}
	head, _, ok := bytes.Cut(data[:min(len(data), 400)], []byte("\n"))
	words := strings.Split(string(head), " ")
	switch {
	case !ok && len(data) < 300 && strings.HasPrefix("gentle-harbor wallet ", string(data[:min(len(data), 21)])):
		return f, problem(finding.SecretWalletCut, path, "is cut off within its first line.")
	case !ok || len(words) != 8 || words[0] != "gentle-harbor" || words[1] != "wallet":
		return f, problem(finding.SecretWalletDamaged, path, "does not begin as a wallet's file does.")
	case words[3] != "1":
		return f, problem(finding.SecretWalletFormat, path, "has a format that this version does not know (it knows 1).")
	}
	body := data[len(head)+1:]
	version, err := strconv.ParseUint(words[5], 10, 63)
	size, err2 := strconv.ParseUint(words[6], 10, 63)
	switch {
	case err != nil || err2 != nil || strconv.FormatUint(version, 10) != words[5] ||
		strconv.FormatUint(size, 10) != words[6]:
		return f, problem(finding.SecretWalletDamaged, path, "is damaged in its first line.")
	case uint64(len(body)) < size:
		return f, problem(finding.SecretWalletCut, path, "is cut off: %d bytes of %d are there.", len(body), size)
	case uint64(len(body)) > size:
		return f, problem(finding.SecretWalletDamaged, path, "goes on behind its end.")
	}
	sum := sha256.Sum256(body)
	if hex.EncodeToString(sum[:]) != words[7] {
		return f, problem(finding.SecretWalletDamaged, path, "is damaged: its content is not what its first line says.")
	}
	if words[2] != kind {
		return f, problem(finding.SecretWalletSwapped, path, "is not a wallet's file %s.", kind)
	}
	if _, err := hex.DecodeString(words[4]); err != nil || len(words[4]) != 32 || strings.ToLower(words[4]) != words[4] {
		return f, problem(finding.SecretWalletDamaged, path, "is damaged in its first line.")
	}
	return frame{kind, words[4], version, body}, nil
}

// read gives a file of the wallet once it is known to be safe. The error is a *finding.Problem;
// one for a file that is not there has the code secret.wallet-incomplete.
func (w Wallet) read(name, kind string, limit int64) (frame, error) {
	path := filepath.Join(w.Dir, name)
	data, err := secret.ReadGuarded(path, limit)
	if err != nil {
		var p *finding.Problem
		if errors.As(err, &p) && p.Code == finding.SecretFileMissing {
			if _, e := os.Stat(path); errors.Is(e, fs.ErrNotExist) {
				return frame{}, problem(finding.SecretWalletIncomplete, path, "is not there, and the wallet's other files are.")
			}
		}
		return frame{}, err
	}
	return parseFrame(data, path, kind)
}
