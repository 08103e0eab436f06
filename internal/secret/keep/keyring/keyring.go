package keyring

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/zalando/go-keyring"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Desktop is the secret service of the desktop session: the Secret Service of freedesktop.org,
// reached over the session's D-Bus, or the system's own on macOS and Windows. An item is named
// "USER at ENDPOINT", and its content says once more what it is bound to.
type Desktop struct {
	// Index is a file that lists what is kept, without any secret, so that what is bound
	// elsewhere can be named.
	Index string
	// Session says, in a sentence, why there is no session that may be asked, "" where there is
	// one; nil for none. Without one no bus is started.
	Session func() string
	// Patience is how long the service may take, which may be asking the person at the desktop;
	// 30 seconds for 0.
	Patience time.Duration
}

// Session says why the session bus at an address (D-Bus Specification, "Server Addresses") may
// not be asked for passwords, "" where it may: only a socket of this machine is a bus on which
// they do not travel in the open.
func Session(address string) string {
	if address == "" {
		return "There is no desktop session here whose keyring could be asked: the variable " +
			"DBUS_SESSION_BUS_ADDRESS is not set."
	}
	for each := range strings.SplitSeq(address, ";") {
		if transport, _, _ := strings.Cut(each, ":"); transport != "unix" {
			return "The keyring is not asked: the variable DBUS_SESSION_BUS_ADDRESS names a bus by " +
				outside.Cell(transport) +
				", on which passwords could be read by others. One on this machine begins with unix:."
		}
	}
	return ""
}

// service is the name under which items are kept.
const service = "gentle-harbor"

// item is the content of an item.
type item struct {
	Format int `json:"format"`
	target.Target
	// Secret is the text; Bytes (base64) is in its place when it is not UTF-8. Neither means no
	// password.
	Secret *string `json:"secret,omitempty"`
	Bytes  string  `json:"secret_bytes,omitempty"`
}

func labelOf(w target.Target) string {
	label := w.User + " at " + w.Endpoint.String()
	if w.Service == target.CloudKey { // a database there may have a user of the account's name
		label = "cloud sign-in: " + label
	}
	return label
}

// maxIndex bounds the file of what is kept.
const maxIndex = 4 << 20

// List gives what was put into the keyring, as the index says.
func (k Desktop) List() ([]target.Target, error) {
	data, err := files.ReadOwn(k.Index, maxIndex)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []target.Target
	if budget.Unmarshal(data, &list) != nil {
		return nil, fmt.Errorf("%s is damaged; it only helps to name what the keyring stores, and can be removed", k.Index)
	}
	return list, nil
}

func (k Desktop) missing() *finding.Problem {
	why := "There is no desktop session here whose keyring could be asked."
	if k.Session != nil {
		if why = k.Session(); why == "" {
			return nil
		}
	}
	return &finding.Problem{Code: finding.SecretKeyringMissing, Facts: finding.Facts{finding.FactDetail: why}}
}

// patiently runs a call to the service, which cannot be interrupted, until it is done or ctx or
// patience ends.
func (k Desktop) patiently(ctx context.Context, call func() error) error {
	patience := k.Patience
	if patience == 0 {
		patience = 30 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- call() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return fmt.Errorf("it did not answer within %s; it may be waiting for someone to unlock it", patience)
		}
		return ctx.Err()
	}
}

// Look gives the item that is kept for just this user, place and database, or for the place as a
// whole.
func (k Desktop) Look(ctx context.Context, dest target.Target, _ secret.How) (secret.Secret, secret.Source, error) {
	if p := k.missing(); p != nil {
		return secret.Secret{}, secret.Source{}, p
	}
	picker := secret.Picker{Target: dest}
	narrow := dest
	for _, each := range []string{dest.Database, ""} {
		narrow.Database = each
		text, label := "", labelOf(narrow)
		err := k.patiently(ctx, func() (err error) { text, err = keyring.Get(service, label); return })
		switch {
		case ctx.Err() != nil:
			return secret.Secret{}, secret.Source{}, ctx.Err()
		case errors.Is(err, keyring.ErrNotFound):
			continue
		case err != nil:
			return secret.Secret{}, secret.Source{},
				&finding.Problem{Code: finding.SecretKeyringFailed,
					Facts: finding.Facts{finding.FactDetail: "The keyring could not be asked: " + err.Error() + "."}}
		}
		kept, found, ok := readItem(text)
		if !ok {
			return secret.Secret{}, secret.Source{},
				&finding.Problem{Code: finding.SecretKeyringFailed,
					Facts: finding.Facts{finding.FactDetail: "The keyring's item " + label +
						" is not one that this program has written."}}
		}
		if picker.Offer(1, &kept); len(kept.Differs(dest)) == 0 {
			return found, secret.Source{Kind: secret.Keyring, Saw: "from the desktop's keyring, item " + label, Kept: &kept}, nil
		}
	}
	list, _ := k.List()
	for i := range list {
		picker.Offer(i, &list[i])
	}
	if _, found := picker.Best(); found { // the index knows of it, the keyring does not
		return secret.Secret{}, secret.Source{},
			&finding.Problem{Code: finding.SecretNotKept,
				Facts: finding.Facts{finding.FactDetail: "The keyring no longer has what was put into it for " +
					dest.User + " at " + dest.Place() + "."}}
	}
	return secret.Secret{}, secret.Source{}, picker.Missing("the keyring", "keyring")
}

// maxItem bounds an item: what is longer is none of ours.
const maxItem = 64 << 10

func readItem(text string) (target.Target, secret.Secret, bool) {
	var it item
	if len(text) > maxItem {
		return target.Target{}, secret.Secret{}, false
	}
	if budget.Unmarshal([]byte(text), &it) != nil || it.Format != 1 || target.Strength(it.TLS) < 0 || it.User == "" {
		return target.Target{}, secret.Secret{}, false
	}
	switch {
	case it.Secret != nil:
		return it.Target, secret.New(*it.Secret), true
	case it.Bytes != "":
		data, err := base64.StdEncoding.DecodeString(it.Bytes)
		return it.Target, secret.New(string(data)), err == nil
	}
	return it.Target, secret.Secret{}, true
}

// Put keeps a secret for a target, instead of an earlier one.
func (k Desktop) Put(ctx context.Context, dest target.Target, s secret.Secret) error {
	if p := k.missing(); p != nil {
		return p
	}
	it := item{Format: 1, Target: dest}
	if text := s.Reveal(); s.Given() && utf8.ValidString(text) {
		it.Secret = &text
	} else if s.Given() {
		it.Bytes = base64.StdEncoding.EncodeToString([]byte(text))
	}
	text, err := json.Marshal(it)
	if err != nil {
		return err
	}
	if err := k.patiently(ctx, func() error { return keyring.Set(service, labelOf(dest), string(text)) }); err != nil {
		return &finding.Problem{Code: finding.SecretKeyringFailed,
			Facts: finding.Facts{finding.FactDetail: "The keyring did not take it: " + err.Error() + "."}}
	}
	return k.index(ctx, dest)
}

// index notes that something is kept for a target.
func (k Desktop) index(ctx context.Context, dest target.Target) error {
	if k.Index == "" {
		return nil
	}
	unlock, err := files.Lock(ctx, filepath.Join(filepath.Dir(k.Index), ".lock"))
	if err != nil {
		return err
	}
	defer unlock()
	list, _ := k.List()
	list = slices.DeleteFunc(list, func(w target.Target) bool { return w.Key() == dest.Key() })
	list = append(list, dest)
	data, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return err
	}
	return files.Write(k.Index, append(data, '\n'), 0o600)
}
