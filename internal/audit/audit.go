// Package audit looks over all that has to do with a user's secrets: the modes and owners of
// files, passwords in clear where there is a better store, connections on which a password would
// travel unprotected, certificates that are about to end, references that lead nowhere, and
// passwords that are weak. It judges passwords and never shows one.
package audit

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/target"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/shell"
)

// Severity says how much a finding matters.
type Severity string

// The severities.
const (
	Serious Severity = "serious" // someone could get at a password now
	Warning Severity = "warning" // something will fail, or is weaker than it looks
	Advice  Severity = "advice"  // there is a better way
)

// Finding is one thing that was found.
type Finding struct {
	Severity Severity `json:"severity"`
	// About is the kind of thing: files, clear, travel, certificate, authority, reference,
	// stranger, hop, admission, unused, weak, leaked, name.
	About string `json:"about"`
	Place string `json:"where"` // a file, with its line where there is one, or a profile
	What  string `json:"what"`
	Fix   string `json:"fix"`
	Fixed bool   `json:"fixed"`
	// More is how many more of the kind there are, which are not listed; the last one that is
	// listed has it.
	More int `json:"more,omitempty"`

	fix func() error
}

// Opened is a wallet that the audit looks into; Contents is nil for one that was not opened, and
// Err says why.
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
	// CertVariables are the variables of Env that decide which authorities certify servers.
	CertVariables []string
	Wallets       []Opened
	Now           time.Time
	// All lists each finding, also where there are many of a kind.
	All bool
	// Admitted gives a profile as it was agreed to, and whether it may be used; nil takes each as
	// it is. What a project that nobody agreed to names is not looked at, and so never changed.
	Admitted func(profile.Stack) (profile.Effective, bool)
	// Hops looks at the hops of a route; nil for none.
	Hops func([]target.Hop) []jump.Seen
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
	kinds    map[kind]*listed
	served   map[secret.Kind]*serving
}

// kind is what findings have in common of which a few are listed.
type kind struct {
	severity          Severity
	about, what, file string
}

// listed says how many of a kind there are, and where the last is that is listed.
type listed struct{ times, last int }

// ofAKind is how many of a kind are listed, and so how many places of one finding that has more
// than fewNames.
const ofAKind, fewNames = 3, 12

// held is a password that can be judged.
type held struct {
	dest target.Target
	text secret.Secret
	file string // the credential file, or the wallet; else the whole place
	line int    // 0 in a wallet
	fix  string // how it is changed where it is not an entry; "" for an entry
}

func (h held) place() string {
	switch {
	case h.fix != "":
		return h.file
	case h.line > 0:
		return fmt.Sprintf("%s:%d", h.file, h.line)
	}
	return h.file + " (" + h.dest.User + " at " + h.dest.Endpoint.String() + ")"
}

func (h held) mend() string {
	if h.fix != "" {
		return h.fix
	}
	store := "wallet"
	if h.line > 0 {
		store = "credentials"
	}
	return "Change it at the server, then: gharbor " + store + " add " + flags(h.dest)
}

// Run gives what was found, the serious first, and how many things were looked at.
func (s Scope) Run() (list []Finding, looked int) {
	a := &auditor{Scope: s, seen: map[string]bool{}, kinds: map[kind]*listed{}, served: map[secret.Kind]*serving{}}
	a.files()
	a.environment()
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

// Fix fixes what can be fixed without a person's judgement: modes of files.
func Fix(list []Finding) {
	for i := range list {
		if list[i].fix != nil && list[i].fix() == nil {
			list[i].Fixed = true
		}
	}
}

// add notes a finding. Of many of a kind (the same words about the same file, or about profiles)
// the first are listed, and the others counted; modes of files are each listed, since they can be
// fixed.
func (a *auditor) add(severity Severity, about, place, mend, what string, more ...any) *Finding {
	if about != "files" && !a.All {
		of := kind{severity, about, what, fileOf(place)}
		l := a.kinds[of]
		if l == nil {
			l = &listed{}
			a.kinds[of] = l
		}
		if l.times++; l.times > ofAKind {
			a.list[l.last].More++
			return &Finding{}
		}
		l.last = len(a.list)
	}
	a.list = append(a.list, Finding{Severity: severity, About: about, Place: place,
		What: fmt.Sprintf(what, more...), Fix: mend})
	return &a.list[len(a.list)-1]
}

// fileOf gives the file that a place is in, "" for a profile.
func fileOf(place string) string {
	if !filepath.IsAbs(place) {
		return ""
	}
	file, _, _ := strings.Cut(place, " (")
	if i := strings.LastIndexByte(file, ':'); i > 0 && strings.Trim(file[i+1:], "0123456789") == "" {
		file = file[:i]
	}
	return file
}

// files judges owner and mode of every file below the user's own folders.
func (a *auditor) files() {
	for _, root := range []string{a.Home, a.State} {
		if root == "" || root == a.State && strings.HasPrefix(a.State, a.Home+string(filepath.Separator)) {
			continue
		}
		a.way(root)
		_ = files.Walk(root, func(path string, entry fs.DirEntry, err error) error {
			if err != nil {
				if !errors.Is(err, fs.ErrNotExist) {
					a.add(Warning, "files", path, "Look at its owner and mode: "+shell.Look(path), "cannot be looked at")
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
				if len(a.list) == before {
					a.way(path) // the folders on the way of the link
				}
				for i := range a.list[before:] {
					a.list[before+i].fix = nil // what it leads to is not ours to change unasked
				}
			}
			return nil
		})
	}
	for _, w := range a.Wallets {
		if !strings.HasPrefix(w.Wallet.Dir, a.Home+string(filepath.Separator)) {
			if w.Wallet.Exists() {
				a.way(w.Wallet.Dir)
			}
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

// secretFile reports whether a file of the user's folder holds secrets.
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
	if !files.Checked || a.seen[path] && (!private || a.seen["private "+path]) {
		return
	}
	again := a.seen[path] // it was judged as what others may read
	a.seen[path], a.seen["private "+path] = true, private || a.seen["private "+path]
	var open *files.OpenError
	errors.As(files.ClosedItself(path, info), &open)
	if open != nil && !open.Mode {
		a.open(open) // all that is in it came from someone else, so a person looks at it before it is trusted
		return
	}
	mode := info.Mode().Perm()
	kind := "file"
	if info.IsDir() {
		kind, private = "folder", false
	}
	switch {
	case private && mode&0o077 != 0 && !files.ReadOnly(path):
		f := a.add(Serious, "files", path, "chmod 600 "+shell.Word(path),
			"has mode %04o: others on this machine can read or change the secrets in it", mode)
		f.fix = func() error { return os.Chmod(path, 0o600) }
	case open != nil && !again:
		f := a.add(Serious, "files", path, open.Fix,
			"has mode %04o: others can change this %s, and so where your passwords are sent", mode, kind)
		f.fix = func() error { return os.Chmod(path, mode&^0o022) }
	}
}

// way finds what is open to others on the way to a path: a folder above it, a link, or a folder
// on the way of a link. It is never changed unasked, since others may need it as it is.
func (a *auditor) way(path string) {
	var open *files.OpenError
	if errors.As(files.Closed(path), &open) && open.Path != path {
		a.open(open)
	}
}

func (a *auditor) open(o *files.OpenError) {
	if a.seen["open "+o.Path] || a.seen[o.Path] && o.Mode {
		return
	}
	a.seen["open "+o.Path] = true
	fix := o.Fix
	if o.Advice != "" {
		fix = o.Advice + ": " + o.Fix
	}
	a.add(Serious, "files", o.Path, fix, "%s", o.Why)
}

// environment judges what the environment says of authorities.
func (a *auditor) environment() {
	for _, name := range a.CertVariables {
		value, set := a.Env(name)
		if !set || value == "" {
			continue
		}
		a.looked++
		// SSL_CERT_DIR is a list.
		for _, path := range filepath.SplitList(value) {
			a.add(Advice, "authority", name, "Unset it where that is not what you want",
				"decides which authorities certify servers, instead of the system's list: %s", path)
			var open *files.OpenError
			if errors.As(files.Closed(path), &open) {
				a.open(open)
			}
		}
	}
}

// names finds profiles whose files not every system can hold beside each other: a project's
// cannot be checked out there.
func (a *auditor) names(store profile.Store) {
	names, err := store.Names()
	if err != nil {
		return
	}
	severity, layer := Advice, ""
	if store.Project {
		severity, layer = Warning, "project:"
	}
	why := profile.Portable(names)
	for _, name := range slices.Sorted(maps.Keys(why)) {
		a.add(severity, "name", store.Path(name), "gharbor rename "+shell.Word(layer+name)+" NEW-NAME",
			"its name does not travel: %s", why[name])
	}
}

// readProfiles reads all profiles, and looks for what is like a password in each file.
func (a *auditor) readProfiles() {
	library := a.Library.Remembering()
	for _, store := range []profile.Store{a.Library.Mine, a.Library.Project} {
		if store.Dir == "" {
			continue
		}
		a.names(store)
		_ = files.Walk(filepath.Join(store.Dir, "profiles"), func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".yaml") {
				return nil
			}
			data, err := files.Read(path, profile.MaxFile)
			if err != nil {
				return nil
			}
			a.looked++
			for _, line := range profile.SecretLike(data) {
				a.add(Serious, "leaked", fmt.Sprintf("%s:%d", path, line),
					"Take it out, change that password at the server, and store the new one: gharbor wallet add",
					"has what looks like a password or a key")
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
		if open := (*files.OpenError)(nil); errors.As(err, &open) {
			a.open(open) // where it is not judged with the other files
			continue
		}
		if err != nil {
			a.add(Warning, "reference", entry.Name, "Correct the file: gharbor edit "+shell.Word(entry.Name),
				"cannot be read: %v", err)
			continue
		}
		e, ok := profile.Effective{}, true
		if a.Admitted == nil {
			e = stack.Resolve()
		} else if e, ok = a.Admitted(stack); !ok {
			a.add(Advice, "stranger", entry.Name, "See what it does: gharbor agree "+shell.Word(entry.Name),
				"comes from a project and was not agreed to: the files and references that it names were not looked at")
			continue
		}
		e.Name = entry.Name
		a.profiles = append(a.profiles, e)
	}
}

// profile judges one profile: how its password travels, its certificates, and where its reference
// leads.
func (a *auditor) profile(e profile.Effective) {
	dest := e.Target()
	away := e.Socket == "" && e.Host != "" && !target.Literal(dest.Host)
	for _, each := range e.Addresses {
		away = away || each.Kind == target.Host && !target.Literal(each.Name)
	}
	sends := e.Secret.Kind != secret.None
	name := shell.Word(e.Name)
	switch {
	case away && sends && e.TLS.Mode == "off":
		a.add(Serious, "travel", e.Name, "gharbor change "+name+" --tls verify",
			"logs in to %s without encryption: anyone on the network between can read what is sent, and try to "+
				"guess the password from it",
			e.Place())
	case away && sends && e.TLS.Mode == "encrypt":
		a.add(Warning, "travel", e.Name, "gharbor change "+name+" --tls verify",
			"encrypts, but does not check who %s is: someone on the network between can answer as if it were "+
				"the server, and try to guess the password from what it is sent",
			e.Place())
	}
	for _, each := range [][2]string{{"tls.cert", e.TLS.Cert}, {"tls.ca", e.TLS.CA}} {
		if each[1] != "" {
			a.certificates(e, each[0], each[1])
		}
	}
	var open *files.OpenError
	if e.TLS.CA != "" && errors.As(files.Closed(e.TLS.CA), &open) {
		a.open(open) // whoever can change it decides which server is the right one
	}
	if e.ProjectAuthority != "" && e.TLS.Mode == "verify" && sends {
		a.add(Advice, "authority", e.Name,
			"Put a password for it with that authority: gharbor wallet add "+name,
			"trusts an authority that its project brings: only a password that was put for it is sent there")
	}
	if e.TLS.Key != "" {
		if info, err := os.Stat(e.TLS.Key); err != nil {
			a.add(Warning, "reference", e.Name, "gharbor change "+name+" --tls-key FILE",
				"names the key %s, which cannot be read", e.TLS.Key)
		} else {
			a.looked++
			a.mode(e.TLS.Key, info, true)
		}
	}
	a.hops(e)
	a.reference(e)
}

// hops judges what is on the way to a profile's server: the keys of its hops, what the OpenSSH
// configuration lets pass, and whether anybody checked whose machines they are.
func (a *auditor) hops(e profile.Effective) {
	if a.Hops == nil || len(e.Via) == 0 {
		return
	}
	for _, hop := range a.Hops(e.Via) {
		var p *finding.Problem
		if errors.As(hop.Err, &p) {
			a.add(Warning, "hop", e.Name, "gharbor meaning "+string(p.Code),
				"goes through %s, for which the OpenSSH configuration cannot be used: %s %s", hop.Hop,
				p.Facts[finding.FactOrigin], p.Facts[finding.FactDetail])
			continue
		}
		a.looked++
		for _, key := range hop.Keys {
			if info, err := os.Stat(key); err == nil {
				a.mode(key, info, !secret.Mounted(key))
				a.way(key)
			}
		}
		if ref, err := secret.ParseReference(hop.Hop.Secret); err == nil && ref.Kind == secret.File {
			if info, err := os.Stat(ref.Of); err == nil {
				a.mode(ref.Of, info, !secret.Mounted(ref.Of))
			}
		}
		once := func(severity Severity, place, mend, what string) {
			if !a.seen[place+what] {
				a.seen[place+what] = true
				a.add(severity, "hop", place, mend, "%s", what)
			}
		}
		if hop.Forwards.Text != "" {
			once(Warning, hop.Forwards.Place(),
				"Take ForwardAgent out; gharbor never forwards the agent, and goes on to a further hop with --via",
				fmt.Sprintf("lets ssh forward the agent to %s: whoever is root there can log in with your keys for that time",
					hop.Hop))
		}
		if hop.Unchecked.Text != "" {
			once(Warning, hop.Unchecked.Place(), "Take the line out; gharbor checks the host key in any case",
				fmt.Sprintf("lets ssh take any host key for %s: someone on the network between can answer in its place",
					hop.Hop))
		}
		if !hop.Known {
			once(Advice, e.Name, "gharbor test "+shell.Word(e.Name)+" at a terminal, and compare the fingerprint",
				fmt.Sprintf("goes through %s, whose host key nobody has checked here", hop.Hop))
		}
	}
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
		a.add(Warning, "reference", e.Name, "gharbor change "+shell.Word(e.Name)+" --"+flag+" FILE",
			"names the certificates %s, which cannot be read", path)
		return
	}
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			continue
		}
		mend := "Ask whoever issued it for a new one, and replace by it " + path
		switch left := cert.NotAfter.Sub(a.Now); {
		case left < 0:
			a.add(Serious, "certificate", path, mend, "the certificate of %s ended on %s", subject(cert),
				cert.NotAfter.Format("2006-01-02"))
		case left < ending:
			a.add(Warning, "certificate", path, mend, "the certificate of %s ends on %s, in %d days",
				subject(cert), cert.NotAfter.Format("2006-01-02"), int(left.Hours()/24))
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
	better := "gharbor wallet add " + name + " --secret " + shell.Word(e.Secret.String()) +
		", then: gharbor change " + name + " --secret wallet"
	nowhere := func(mend, what string, more ...any) { a.add(Warning, "reference", e.Name, mend, what, more...) }
	switch e.Secret.Kind {
	case secret.Variable:
		text, set := "", false
		if a.Env != nil {
			text, set = a.Env(e.Secret.Of)
		}
		if !set {
			nowhere("Set it, or: gharbor wallet add "+name,
				"takes its password from the variable %s, which is not set here", e.Secret.Of)
			return
		}
		a.held = append(a.held, held{dest: e.Target(), text: secret.New(text),
			file: e.Name + " (variable " + e.Secret.Of + ")", fix: "Change it at the server, then in the variable"})
		a.add(Advice, "clear", e.Name, better,
			"takes its password from the environment, where each program that you start can read it")
	case secret.File:
		if info, err := os.Stat(e.Secret.Of); err == nil {
			a.looked++
			a.mode(e.Secret.Of, info, !secret.Mounted(e.Secret.Of))
		}
		text, err := secret.ReadFile(e.Secret.Of)
		var p *finding.Problem
		if errors.As(err, &p) {
			if p.Code == finding.SecretFileMissing || p.Code == finding.SecretNotAFile || p.Code == finding.SecretUnusable {
				nowhere("gharbor change "+name+" --secret file:PATH",
					"takes its password from a file that cannot be used: %s",
					strings.TrimSuffix(p.Facts[finding.FactDetail], "."))
			} else if p.Code == finding.SecretFolderUnsafe {
				folder := filepath.Dir(e.Secret.Of)
				before := len(a.list)
				if info, err := os.Stat(folder); err == nil {
					a.mode(folder, info, false)
				}
				if len(a.list) == before {
					a.way(e.Secret.Of)
				}
			}
			return
		}
		a.held = append(a.held, held{dest: e.Target(), text: text, file: e.Name + " (" + e.Secret.Of + ")",
			fix: "Change it at the server, then in the file"})
		if !secret.Mounted(e.Secret.Of) {
			a.add(Advice, "clear", e.Secret.Of, better,
				"has the password of %s in clear; a wallet stores it encrypted and bound to its server", e.Name)
		}
	case secret.Command:
		if _, err := a.Library.World.Program(e.Secret.Args[0]); err != nil {
			nowhere("gharbor change "+name+" --secret …",
				"takes its password from the program %s, which is not there or may not be run", e.Secret.Args[0])
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
		if _, err := credentials.Match(path, unlooked(e)); errors.As(err, &p) &&
			!strings.HasSuffix(string(p.Code), "-unsafe") && p.Code != finding.SecretFileForeign {
			nowhere("gharbor credentials why "+name, "takes its password from a credential file: %s",
				strings.TrimSuffix(p.Facts[finding.FactDetail], "."))
		}
	case secret.Wallet:
		i := slices.IndexFunc(a.Wallets, func(o Opened) bool { return o.Name == e.Secret.Of })
		switch {
		case i < 0 || !a.Wallets[i].Wallet.Exists():
			nowhere("gharbor wallet create", "takes its password from a wallet that is not there")
		case a.Wallets[i].Contents != nil && e.User != "":
			if _, err := a.Wallets[i].Contents.Match(unlooked(e), "the wallet"); err != nil {
				nowhere("gharbor wallet add "+name, "takes its password from the wallet: %s", strings.TrimSuffix(err.Error(), "."))
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
	if errors.As(err, &p) && p.Code == finding.SecretFileMissing {
		return
	}
	if err == nil {
		_, troubles, e := credentials.Check(data, path)
		err = e
		for _, each := range troubles {
			a.add(Warning, "reference", fmt.Sprintf("%s:%d", path, each.Line), "Correct that line", "%s", each.What)
		}
	}
	if errors.As(err, &p) {
		if p.Code == finding.SecretCredentialsBroken {
			a.add(Warning, "reference", path, "gharbor credentials check", "cannot be used: %s",
				strings.TrimSuffix(p.Facts[finding.FactDetail], "."))
		}
		return // modes were judged with the other files
	}
	list, err := credentials.Parse(data, path)
	if err != nil || len(list) == 0 {
		return
	}
	a.looked += len(list)
	a.add(Advice, "clear", path, "gharbor wallet import "+shell.Word(path),
		"has %s in clear; a wallet stores them encrypted",
		map[bool]string{true: "a password", false: fmt.Sprint(len(list), " passwords")}[len(list) == 1])
	for _, each := range list {
		at := fmt.Sprintf("%s:%d", path, each.Line)
		a.travels(each.Target, at)
		if each.Secret.Given() {
			a.held = append(a.held, held{each.Target, each.Secret, path, each.Line, ""})
		}
		if !a.used(each.Target, secret.Credentials) {
			a.add(Advice, "unused", at, "gharbor credentials remove "+flags(each.Target),
				"no profile uses the entry of %s at %s", each.Target.User, each.Target.Endpoint)
		}
	}
}

// flags writes an entry's user and place as flags.
func flags(dest target.Target) string {
	return "--server " + shell.Word(dest.Endpoint.String()) + " --user " + shell.Word(dest.User)
}

// travels finds an entry that may be sent unencrypted to another machine.
func (a *auditor) travels(dest target.Target, place string) {
	if dest.TLS == "off" && dest.Socket == "" && !target.Literal(dest.Host) {
		a.add(Warning, "travel", place, "Put it in anew with --tls verify",
			"the password of %s may be sent to %s without encryption", dest.User, dest.Place())
	}
}

// unlooked gives a profile's target; a container is not looked up for an audit, so that another
// of its name counts as the same.
func unlooked(e profile.Effective) target.Target {
	t := e.Target()
	t.Later = e.InContainer() || e.InCloud()
	return t
}

// used reports whether a profile that looks in a kind of place is served there by what is kept.
func (a *auditor) used(kept target.Target, kind secret.Kind) bool {
	if kept.Service == target.CloudKey {
		return true // it is no profile's
	}
	s := a.served[kind]
	if s == nil {
		s = servingOf(a.profiles, kind)
		a.served[kind] = s
	}
	return s.by(kept)
}

// serving are the targets of the profiles that look in a kind of place, by where they lead to.
type serving struct {
	all []target.Target
	at  map[string][]target.Target
}

func servingOf(profiles []profile.Effective, kind secret.Kind) *serving {
	s := &serving{at: map[string][]target.Target{}}
	for _, e := range profiles {
		if e.Secret.Kind == secret.Search || e.Secret.Kind == kind {
			dest := unlooked(e)
			s.all = append(s.all, dest)
			s.at[spot(dest.User, dest)] = append(s.at[spot(dest.User, dest)], dest)
		}
	}
	return s
}

// spot is the same for a user's entry and a target that it may serve, where the entry is for one
// place.
func spot(user string, of target.Target) string {
	e := of.Endpoint
	if e.Cloud != "" { // it may be written in several ways
		return user + "\x00cloud"
	}
	return strings.Join([]string{user, e.Alias, e.Container, e.Socket, of.Host}, "\x00")
}

// by reports whether an entry serves one of the targets.
func (s *serving) by(kept target.Target) bool {
	serves := func(dest target.Target) bool {
		if dest.User == "" {
			dest.User = kept.User
		}
		return len(kept.Differs(dest)) == 0
	}
	if strings.HasPrefix(kept.Host, "*") {
		return slices.ContainsFunc(s.all, serves)
	}
	return slices.ContainsFunc(s.at[spot(kept.User, kept)], serves) || slices.ContainsFunc(s.at[spot("", kept)], serves)
}

func (a *auditor) wallets() {
	for _, o := range a.Wallets {
		if !o.Wallet.Exists() {
			continue
		}
		place := o.Wallet.Dir
		var p *finding.Problem
		switch {
		case errors.As(o.Err, &p) && p.Code == finding.SecretWalletLocked:
			a.add(Advice, "weak", place, "gharbor audit --passphrase-file FILE, or at a terminal",
				"was not looked into: it opens with its passphrase only")
			continue
		case errors.As(o.Err, &p) && (p.Code == finding.SecretFileUnsafe ||
			p.Code == finding.SecretFileForeign || p.Code == finding.SecretFolderUnsafe):
			continue // judged with the other files
		case o.Err != nil:
			a.add(Serious, "files", place, "gharbor wallet check --wallet "+shell.Word(place), "cannot be opened: %v", o.Err)
			continue
		case o.Contents == nil:
			continue
		}
		for _, each := range o.Contents.Entries {
			a.looked++
			a.travels(each.Target, place)
			if each.Secret.Given() {
				a.held = append(a.held, held{each.Target, each.Secret, place, 0, ""})
			}
			if !a.used(each.Target, secret.Wallet) {
				a.add(Warning, "unused", place, "gharbor wallet remove "+flags(each.Target),
					"no profile uses the entry of %s at %s", each.Target.User, each.Target.Endpoint)
			}
		}
	}
}
