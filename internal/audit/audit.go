// Package audit looks over all that has to do with a user's secrets: the modes and owners of files, passwords in
// clear where there is a better place, ways on which a password would travel unprotected, certificates that are about
// to end, references that lead nowhere, and passwords that are weak. It judges passwords and never shows one.
package audit

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/target"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/shell"
)

// Severity tells how much a finding matters.
type Severity string

// The severities.
const (
	Serious Severity = "serious" // somebody could get at a password now
	Warning Severity = "warning" // something will fail, or is weaker than it looks
	Advice  Severity = "advice"  // there is a better way
)

// Finding is one thing that was found.
type Finding struct {
	Severity Severity `json:"severity"`
	// About is the kind of thing: files, clear, travel, certificate, reference, unused, weak, leaked.
	About  string `json:"about"`
	Place  string `json:"place"` // a file, with its line where there is one, or a profile
	What   string `json:"what"`
	Mend   string `json:"mend"`
	Mended bool   `json:"mended"`

	fix func() error
}

// Opened is a wallet that the audit looks into; Contents is nil for one that was not opened, and Err says why.
type Opened struct {
	Wallet   wallet.Wallet
	Name     string // as secret: wallet:NAME has it, "" for the usual one
	Contents *wallet.Contents
	Err      error
}

// Scope is what an audit looks at.
type Scope struct {
	// Home and State are the user's own folders.
	Home, State string
	Library     profile.Library
	Env         func(string) (string, bool)
	Wallets     []Opened
	Now         time.Time
}

// ending is how long before its end a certificate is told of.
const ending = 30 * 24 * time.Hour

// maxFiles bounds how many files are looked at.
const maxFiles = 200_000

// auditor collects findings.
type auditor struct {
	Scope
	list     []Finding
	looked   int
	held     []held
	profiles []profile.Effective
	seen     map[string]bool // files that were judged already
}

// held is a password that can be judged.
type held struct {
	way   target.Target
	text  secret.Secret
	place string
	mend  string
}

// Run gives what was found, the serious first, and how many things were looked at.
func (s Scope) Run() (list []Finding, looked int) {
	a := &auditor{Scope: s, seen: map[string]bool{}}
	a.files()
	a.readProfiles()
	for _, e := range a.profiles {
		a.profile(e)
	}
	a.credentials(filepath.Join(a.Home, "credentials"))
	a.wallets()
	a.weak()
	order := []Severity{Serious, Warning, Advice}
	slices.SortStableFunc(a.list, func(x, y Finding) int {
		return slices.Index(order, x.Severity) - slices.Index(order, y.Severity)
	})
	return a.list, a.looked
}

// Mend mends what can be mended without a person's judgement: modes of files.
func Mend(list []Finding) {
	for i := range list {
		if list[i].fix != nil && list[i].fix() == nil {
			list[i].Mended = true
		}
	}
}

func (a *auditor) add(severity Severity, about, place, mend, what string, more ...any) *Finding {
	a.list = append(a.list, Finding{Severity: severity, About: about, Place: place, What: fmt.Sprintf(what, more...), Mend: mend})
	return &a.list[len(a.list)-1]
}

// files judges owner and mode of every file below the user's own folders.
func (a *auditor) files() {
	for _, root := range []string{a.Home, a.State} {
		if root == "" || root == a.State && strings.HasPrefix(a.State, a.Home+string(filepath.Separator)) {
			continue
		}
		_ = filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			if err != nil {
				if !errors.Is(err, fs.ErrNotExist) {
					a.add(Warning, "files", path, "Look at its owner and mode: ls -ld "+shell.Word(path), "cannot be looked at")
				}
				return nil
			}
			if a.looked++; a.looked > maxFiles {
				return filepath.SkipAll
			}
			info, err := os.Stat(path) // what a link leads to counts
			if err != nil {
				return nil
			}
			before := len(a.list)
			a.mode(path, info, a.secretFile(path))
			if entry.Type()&fs.ModeSymlink != 0 {
				for i := range a.list[before:] {
					a.list[before+i].fix = nil // what it leads to is not ours to change unasked
				}
			}
			return nil
		})
	}
	for _, w := range a.Wallets {
		if !strings.HasPrefix(w.Wallet.Dir, a.Home+string(filepath.Separator)) {
			entries, _ := os.ReadDir(w.Wallet.Dir)
			for _, each := range append([]string{"."}, names(entries)...) {
				path := filepath.Join(w.Wallet.Dir, each)
				if info, err := os.Stat(path); err == nil {
					a.looked++
					a.mode(path, info, !info.IsDir())
				}
			}
		}
	}
}

func names(entries []fs.DirEntry) []string {
	var list []string
	for _, each := range entries {
		list = append(list, each.Name())
	}
	return list
}

// secretFile tells whether a file of the user's folder holds secrets.
func (a *auditor) secretFile(path string) bool {
	rest, err := filepath.Rel(a.Home, path)
	if err != nil {
		return false
	}
	first, _, inside := strings.Cut(filepath.ToSlash(rest), "/")
	return rest == "credentials" || inside && (first == "wallet" || first == "wallets") && filepath.Base(path) != ".lock"
}

// mode judges one file or folder; private ones may not be read by others.
func (a *auditor) mode(path string, info fs.FileInfo, private bool) {
	if !secret.Checked || a.seen[path] {
		return
	}
	a.seen[path] = true
	if owner, foreign := secret.Foreign(info); foreign {
		// Whatever stands in it came from somebody else, so a person looks at it before it is trusted.
		a.add(Serious, "files", path, fmt.Sprintf("Look at what is in it, and take it over if it is right: sudo chown %d %s", os.Geteuid(), shell.Word(path)), "belongs to another user (id %d), who can change it", owner)
		return
	}
	mode := info.Mode().Perm()
	kind := "file"
	if info.IsDir() {
		kind, private = "folder", false
	}
	switch {
	case private && mode&0o077 != 0:
		f := a.add(Serious, "files", path, "chmod 600 "+shell.Word(path), "has mode %04o: others on this machine can read or change the passwords in it", mode)
		f.fix = func() error { return os.Chmod(path, 0o600) }
	case mode&0o022 != 0 && info.Mode()&fs.ModeSticky == 0:
		f := a.add(Serious, "files", path, "chmod go-w "+shell.Word(path), "has mode %04o: others can change this %s, and so where your passwords are sent", mode, kind)
		f.fix = func() error { return os.Chmod(path, mode&^0o022) }
	}
}

// readProfiles reads all profiles, and looks for what is like a password in each file.
func (a *auditor) readProfiles() {
	library := a.Library.Remembering()
	for _, store := range []profile.Store{a.Library.Mine, a.Library.Project} {
		if store.Dir == "" {
			continue
		}
		_ = filepath.WalkDir(filepath.Join(store.Dir, "profiles"), func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".yaml") {
				return nil
			}
			data, err := files.Read(path, profile.MaxFile)
			if err != nil {
				return nil
			}
			a.looked++
			for _, line := range profile.SecretLike(data) {
				a.add(Serious, "leaked", fmt.Sprintf("%s:%d", path, line), "Take it out, change that password at the server, and keep the new one: gharbor wallet put", "holds what looks like a password or a key")
			}
			return nil
		})
	}
	entries, err := library.List()
	if err != nil {
		a.add(Warning, "files", a.Library.Mine.Dir, "Look at its owner and mode", "the profiles cannot be listed")
	}
	for _, entry := range entries {
		stack, err := library.Load(entry.Name)
		a.looked++
		if err != nil {
			a.add(Warning, "reference", entry.Name, "Mend the file: gharbor edit "+shell.Word(entry.Name), "cannot be read: %v", err)
			continue
		}
		e := stack.Resolve()
		e.Name = entry.Name
		a.profiles = append(a.profiles, e)
	}
}

// profile judges one profile: how its password travels, its certificates, and where its reference leads.
func (a *auditor) profile(e profile.Effective) {
	way := e.Target()
	away := e.Socket == "" && e.Host != "" && !target.Literal(way.Host)
	sends := e.Secret.Kind != secret.None
	name := shell.Word(e.Name)
	switch {
	case away && sends && e.TLS.Mode == "off":
		a.add(Serious, "travel", e.Name, "gharbor change "+name+" --tls verify", "logs in to %s without encryption: anyone on the way can read what is sent, and try to guess the password from it", e.Place())
	case away && sends && e.TLS.Mode == "encrypt":
		a.add(Warning, "travel", e.Name, "gharbor change "+name+" --tls verify", "encrypts, but does not check who %s is: someone on the way can answer in its place, and try to guess the password from what it is sent", e.Place())
	}
	for _, each := range [][2]string{{"tls.cert", e.TLS.Cert}, {"tls.ca", e.TLS.CA}} {
		if each[1] != "" {
			a.certificates(e, each[0], each[1])
		}
	}
	if e.TLS.Key != "" {
		if info, err := os.Stat(e.TLS.Key); err != nil {
			a.add(Warning, "reference", e.Name, "gharbor change "+name+" --tls-key FILE", "names the key %s, which cannot be read", e.TLS.Key)
		} else {
			a.looked++
			a.mode(e.TLS.Key, info, true)
		}
	}
	a.reference(e)
}

func (a *auditor) certificates(e profile.Effective, setting, path string) {
	if a.seen[setting+path] {
		return
	}
	a.seen[setting+path] = true
	a.looked++
	flag := strings.ReplaceAll(setting, ".", "-")
	data, err := files.Read(path, 4<<20)
	if err != nil {
		a.add(Warning, "reference", e.Name, "gharbor change "+shell.Word(e.Name)+" --"+flag+" FILE", "names the certificates %s, which cannot be read", path)
		return
	}
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			continue
		}
		mend := "Ask whoever issued it for a new one, and put it in the place of " + path
		switch left := cert.NotAfter.Sub(a.Now); {
		case left < 0:
			a.add(Serious, "certificate", path, mend, "the certificate of %s ended on %s", subject(cert), cert.NotAfter.Format("2006-01-02"))
		case left < ending:
			a.add(Warning, "certificate", path, mend, "the certificate of %s ends on %s, in %d days", subject(cert), cert.NotAfter.Format("2006-01-02"), int(left.Hours()/24))
		}
	}
}

func subject(cert *x509.Certificate) string {
	if cert.Subject.CommonName != "" {
		return cert.Subject.CommonName
	}
	if len(cert.DNSNames) > 0 {
		return cert.DNSNames[0]
	}
	return "no name"
}

// reference judges where a profile's secret is to come from.
func (a *auditor) reference(e profile.Effective) {
	name := shell.Word(e.Name)
	better := "gharbor wallet put --profile " + name + " --secret " + shell.Word(e.Secret.String()) + ", then: gharbor change " + name + " --secret wallet"
	nowhere := func(mend, what string, more ...any) { a.add(Warning, "reference", e.Name, mend, what, more...) }
	switch e.Secret.Kind {
	case secret.Variable:
		text, set := "", false
		if a.Env != nil {
			text, set = a.Env(e.Secret.Of)
		}
		if !set {
			nowhere("Set it, or: gharbor wallet put --profile "+name, "takes its password from the variable %s, which is not set here", e.Secret.Of)
			return
		}
		a.held = append(a.held, held{e.Target(), secret.New(text), e.Name + " (variable " + e.Secret.Of + ")", "Change it at the server, then in the variable"})
		a.add(Advice, "clear", e.Name, better, "takes its password from the environment, where each program that you start can read it")
	case secret.File:
		if info, err := os.Stat(e.Secret.Of); err == nil {
			a.looked++
			a.mode(e.Secret.Of, info, !secret.Mounted(e.Secret.Of))
		}
		text, err := secret.ReadFile(e.Secret.Of)
		var p *finding.Problem
		if errors.As(err, &p) {
			if p.Code == "secret.file-missing" || p.Code == "secret.not-a-file" || p.Code == "secret.unusable" {
				nowhere("gharbor change "+name+" --secret file:PATH", "takes its password from a file that cannot be used: %s", strings.TrimSuffix(p.Facts["detail"], "."))
			} else if p.Code == "secret.folder-unsafe" {
				folder := filepath.Dir(e.Secret.Of)
				if info, err := os.Stat(folder); err == nil {
					a.mode(folder, info, false)
				}
			}
			return
		}
		a.held = append(a.held, held{e.Target(), text, e.Name + " (" + e.Secret.Of + ")", "Change it at the server, then in the file"})
		if !secret.Mounted(e.Secret.Of) {
			a.add(Advice, "clear", e.Secret.Of, better, "holds the password of %s in clear; a wallet keeps it encrypted and bound to its place", e.Name)
		}
	case secret.Command:
		if _, err := exec.LookPath(e.Secret.Args[0]); err != nil {
			nowhere("gharbor change "+name+" --secret …", "takes its password from the program %s, which is not there or may not be run", e.Secret.Args[0])
		}
	case secret.Credentials:
		path := e.Secret.Of
		if path == "" {
			path = filepath.Join(a.Home, "credentials")
		} else if info, err := os.Stat(path); err == nil {
			a.mode(path, info, !secret.Mounted(path))
			a.credentials(path)
		}
		var p *finding.Problem
		if _, err := credentials.Match(path, e.Target()); errors.As(err, &p) && !strings.HasSuffix(p.Code, "-unsafe") && p.Code != "secret.file-foreign" {
			nowhere("gharbor credentials why "+name, "takes its password from a credential file: %s", strings.TrimSuffix(p.Facts["detail"], "."))
		}
	case secret.Wallet:
		i := slices.IndexFunc(a.Wallets, func(o Opened) bool { return o.Name == e.Secret.Of })
		switch {
		case i < 0 || !a.Wallets[i].Wallet.Exists():
			nowhere("gharbor wallet create", "takes its password from a wallet that is not there")
		case a.Wallets[i].Contents != nil && e.User != "":
			if _, err := a.Wallets[i].Contents.Match(e.Target(), "the wallet"); err != nil {
				nowhere("gharbor wallet put --profile "+name, "takes its password from the wallet: %s", strings.TrimSuffix(err.Error(), "."))
			}
		}
	}
}

// credentials judges a credential file, once.
func (a *auditor) credentials(path string) {
	if a.seen["entries "+path] {
		return
	}
	a.seen["entries "+path] = true
	data, err := secret.ReadGuarded(path, credentials.MaxSize)
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == "secret.file-missing" {
		return
	}
	if err == nil {
		_, troubles, e := credentials.Check(data, path)
		err = e
		for _, each := range troubles {
			a.add(Warning, "reference", fmt.Sprintf("%s:%d", path, each.Line), "Mend that line", "%s", each.What)
		}
	}
	if errors.As(err, &p) {
		if p.Code == "secret.credentials-broken" {
			a.add(Warning, "reference", path, "gharbor credentials check", "cannot be used: %s", strings.TrimSuffix(p.Facts["detail"], "."))
		}
		return // modes were judged with the other files
	}
	list, err := credentials.Parse(data, path)
	if err != nil || len(list) == 0 {
		return
	}
	a.looked += len(list)
	a.add(Advice, "clear", path, "gharbor wallet absorb "+shell.Word(path), "holds %d passwords in clear; a wallet keeps them encrypted", len(list))
	for _, each := range list {
		at := fmt.Sprintf("%s:%d", path, each.Line)
		a.travels(each.Way, at)
		if each.Secret.Given() {
			a.held = append(a.held, held{each.Way, each.Secret, at, "Change it at the server, then: gharbor credentials add " + flags(each.Way)})
		}
		if !a.used(each.Way, secret.Credentials) {
			a.add(Advice, "unused", at, "gharbor credentials remove "+flags(each.Way), "no profile uses the entry of %s at %s", each.Way.User, each.Way.Endpoint)
		}
	}
}

// flags writes an entry's user and place as flags.
func flags(way target.Target) string {
	return "--for " + shell.Word(way.Endpoint.String()) + " --user " + shell.Word(way.User)
}

// travels tells of an entry that may be sent unencrypted to another machine.
func (a *auditor) travels(way target.Target, place string) {
	if way.TLS == "off" && way.Socket == "" && !target.Literal(way.Host) {
		a.add(Warning, "travel", place, "Put it in anew with --tls verify", "the password of %s may be sent to %s without encryption", way.User, way.Place())
	}
}

// used tells whether a profile that looks in a kind of place is served there by what is kept.
func (a *auditor) used(kept target.Target, kind secret.Kind) bool {
	return slices.ContainsFunc(a.profiles, func(e profile.Effective) bool {
		if e.Secret.Kind != secret.Search && e.Secret.Kind != kind {
			return false
		}
		way := e.Target()
		if way.User == "" {
			way.User = kept.User
		}
		return len(kept.Differs(way)) == 0
	})
}

func (a *auditor) wallets() {
	for _, o := range a.Wallets {
		if !o.Wallet.Exists() {
			continue
		}
		place := o.Wallet.Dir
		var p *finding.Problem
		switch {
		case errors.As(o.Err, &p) && p.Code == "secret.wallet-locked":
			a.add(Advice, "weak", place, "gharbor audit --passphrase-file FILE, or at a terminal", "was not looked into: it opens with its passphrase only")
			continue
		case errors.As(o.Err, &p) && (p.Code == "secret.file-unsafe" || p.Code == "secret.file-foreign" || p.Code == "secret.folder-unsafe"):
			continue // judged with the other files
		case o.Err != nil:
			a.add(Serious, "files", place, "gharbor wallet check --wallet "+shell.Word(place), "cannot be opened: %v", o.Err)
			continue
		case o.Contents == nil:
			continue
		}
		for _, each := range o.Contents.Entries {
			a.looked++
			a.travels(each.Way, place)
			if each.Secret.Given() {
				a.held = append(a.held, held{each.Way, each.Secret, place + " (" + each.Way.User + " at " + each.Way.Endpoint.String() + ")", "Change it at the server, then: gharbor wallet put " + flags(each.Way)})
			}
			if !a.used(each.Way, secret.Wallet) {
				a.add(Warning, "unused", place, "gharbor wallet remove "+flags(each.Way), "no profile uses the entry of %s at %s", each.Way.User, each.Way.Endpoint)
			}
		}
	}
}
