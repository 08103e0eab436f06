package secret

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/shell"
	"gentle-harbor/internal/target"
)

// MaxSize is how many bytes a secret may have. Both servers stop well below it.
const MaxSize = 16 << 10

// Keeper is a store that keeps secrets, each bound to the target that it may be sent to.
type Keeper interface {
	// Look gives the secret that is kept for a target, and where it was. A Secret that is not
	// Given means that the account has no password. The error is a *finding.Problem, or ctx's.
	Look(ctx context.Context, dest target.Target, how How) (Secret, Source, error)
}

// Source is where a secret came from.
type Source struct {
	Kind Kind   // what kind of source; Search for a connection string
	Saw  string // a line for people
	// Kept is what a store keeps the secret for, nil for another source.
	Kept *target.Target
	// User is the user that came with the secret, "" for none.
	User string
}

// String gives the line for people.
func (s Source) String() string { return s.Saw }

// How says for what a place is looked at.
type How byte

// The purposes of a look.
const (
	Searched How = iota // it is one of the places where a secret may be
	Named               // a reference names it
	Quietly             // to say that it has one: nobody is asked anything
)

// Program is how a program that prints a secret is started.
type Program struct {
	Words []string // the program and its arguments
	Dir   string   // the folder to start it in, "" for the current one
	// File is the program, open: it is started from there where the system can, no matter what is
	// at its path by then. It may be nil.
	File *os.File
	Done func() // called when the program has ended
}

// Finder follows references. Its zero value reads files, knows no environment and asks nobody.
type Finder struct {
	// Env looks an environment variable up; nil knows none.
	Env func(name string) (string, bool)
	// Known is a secret that came with the connection itself, in a connection string. It serves
	// where no reference was written.
	Known Secret
	// Start gives how a program that a profile names is to be started. It may be nil.
	Start func(args []string) (Program, error)
	// Follows is what a reference of the profile's own led to already. It is given again where
	// the reference is followed another time, without reading the file or running the program
	// anew.
	Follows Secret
	// Quiet asks nobody anything: no password and no passphrase.
	Quiet bool
	// Environ is the environment of programs that print a secret.
	Environ []string
	// Ask has a person type the secret for a target; nil where nobody can be asked. Its error is
	// passed on as it is.
	Ask func(ctx context.Context, dest target.Target) (Secret, error)
	// AskSaw says where what Ask gives comes from; TypedSaw when empty.
	AskSaw string
	// Wallets are those to search, in order.
	Wallets []Keeper
	// Wallet gives the wallet of a name, the user's own for "".
	Wallet func(name string) Keeper
	// CredentialFile gives the credential file at a path, the user's own for ""; nil where there
	// are none.
	CredentialFile func(path string) Keeper
	// Keyring is the desktop's secret service; nil for none.
	Keyring Keeper
	// Login has the cloud of the target's server give a temporary login; nil where no cloud says
	// where the server is. The source names its user.
	Login func(ctx context.Context, dest target.Target) (Secret, Source, error)
}

// Want says what a secret is for.
type Want struct {
	Ref    Reference
	Target target.Target // whose secret, and where it is to go
	Spared bool          // a socket or a client certificate may make a password needless
}

// Again gives a finder for a further connection that is made without a person's asking for it,
// such as to see which databases there are. References to a variable, a file or a program follow
// the profile, and what they led to is given again; what a store keeps must be bound to the
// further connection too; what was typed is for the first alone.
func (f Finder) Again(ref Reference, found Secret) Finder {
	f.Quiet, f.Ask = true, nil
	if slices.Contains([]Kind{Variable, File, Command}, ref.Kind) && found.Given() {
		f.Follows = found
	}
	return f
}

// how gives How a place is looked at, unless this finder is a quiet one.
func (f Finder) how(otherwise How) How {
	if f.Quiet {
		return Quietly
	}
	return otherwise
}

// Find gives the secret that want.Ref leads to, and where it came from. A Secret that is not
// Given means that none is to be sent. The error is a *finding.Problem, or what Ask returned.
func (f Finder) Find(ctx context.Context, want Want) (Secret, Source, error) {
	secret, saw, err := f.find(ctx, want)
	var problem *finding.Problem
	if want.Ref.Kind != Search && errors.As(err, &problem) {
		named := *problem
		named.Tried = nil // the only place that was looked at is the one that is named
		err = &named
	}
	return secret, saw, err
}

// source follows a reference of one kind.
type source func(f Finder, ctx context.Context, want Want) (Secret, Source, error)

// sources has each kind of reference; the search, which is none, looks in several. A new kind
// adds its line here.
var sources = map[Kind]source{
	None: func(Finder, context.Context, Want) (Secret, Source, error) {
		return Secret{}, Source{Kind: None, Saw: "none is sent, as the profile says"}, nil
	},
	Empty: func(Finder, context.Context, Want) (Secret, Source, error) {
		return New(""), Source{Kind: Empty, Saw: "an empty password, as the profile says"}, nil
	},
	Variable: func(f Finder, _ context.Context, want Want) (Secret, Source, error) { return f.variable(want.Ref.Of) },
	File: func(_ Finder, _ context.Context, want Want) (Secret, Source, error) {
		secret, err := ReadFile(want.Ref.Of)
		return secret, Source{Kind: File, Saw: "read from the file " + want.Ref.Of}, err
	},
	Command: func(f Finder, ctx context.Context, want Want) (Secret, Source, error) {
		secret, err := f.command(ctx, want.Ref.Args)
		return secret, Source{Kind: Command, Saw: "printed by the program " + want.Ref.Args[0]}, err
	},
	Ask: func(f Finder, ctx context.Context, want Want) (Secret, Source, error) {
		if f.Ask == nil {
			return Secret{}, Source{}, &finding.Problem{Code: finding.SecretNobodyToAsk,
				Facts: finding.Facts{finding.FactDetail: "The profile says secret: ask, and there is no terminal to ask at."}}
		}
		return f.ask(ctx, want)
	},
	Wallet: func(f Finder, ctx context.Context, want Want) (Secret, Source, error) {
		if f.Wallet == nil {
			return f.search(ctx, want)
		}
		return f.Wallet(want.Ref.Of).Look(ctx, want.Target, f.how(Named))
	},
	Credentials: func(f Finder, ctx context.Context, want Want) (Secret, Source, error) {
		if f.CredentialFile == nil {
			return Secret{}, Source{},
				&finding.Problem{Code: finding.SecretCredentialsMissing,
					Facts: finding.Facts{finding.FactDetail: "There are no credential files here."}}
		}
		return f.CredentialFile(want.Ref.Of).Look(ctx, want.Target, f.how(Named))
	},
	Container: func(_ Finder, _ context.Context, want Want) (Secret, Source, error) {
		if want.Target.Container != "" && !want.Target.Later {
			return Secret{}, Source{},
				&finding.Problem{Code: finding.SecretContainerHasNone,
					Facts: finding.Facts{finding.FactDetail: "A container's variables are read when it is " +
						"connected to, and for nothing else."}}
		}
		if want.Target.Container == "" {
			return Secret{}, Source{},
				&finding.Problem{Code: finding.SecretContainerHasNone,
					Facts: finding.Facts{finding.FactDetail: "The profile takes its password from the " +
						"container, and no container says where the server is."}}
		}
		return Secret{}, Source{Kind: Container, Saw: "in the variables of the container, once it is found"}, nil
	},
	Cloud: func(f Finder, ctx context.Context, want Want) (Secret, Source, error) {
		if f.Login == nil {
			return Secret{}, Source{},
				&finding.Problem{Code: finding.SecretCloudHasNone,
					Facts: finding.Facts{finding.FactDetail: "The profile takes a temporary login from the " +
						"cloud, and no cloud says where the server is."}}
		}
		return f.Login(ctx, want.Target)
	},
	Keyring: func(f Finder, ctx context.Context, want Want) (Secret, Source, error) {
		if f.Keyring == nil {
			return Secret{}, Source{},
				&finding.Problem{Code: finding.SecretKeyringMissing,
					Facts: finding.Facts{finding.FactDetail: "There is no keyring here."}}
		}
		return f.Keyring.Look(ctx, want.Target, f.how(Named))
	},
}

func (f Finder) find(ctx context.Context, want Want) (Secret, Source, error) {
	if f.Follows.Given() && slices.Contains([]Kind{Variable, File, Command}, want.Ref.Kind) {
		return f.Follows, Source{Kind: want.Ref.Kind, Saw: "as found before"}, nil
	}
	if follow, known := sources[want.Ref.Kind]; known {
		return follow(f, ctx, want)
	}
	return f.search(ctx, want)
}

// passable are the problems of a place after which a search goes on to the next. All others stop
// it: a place that cannot be used is never passed over in silence.
var passable = []finding.Code{finding.SecretNotKept, finding.SecretAliasChanged, finding.SecretBoundElsewhere,
	finding.SecretWalletMissing, finding.SecretWalletLocked, finding.SecretCredentialsMissing,
	finding.SecretNotReadable}

// Elsewhere gives a reference that would lead to a secret for a target, other than the one that
// was followed, and where it was found; "" when no place that answers without asking anybody has
// one that is not the tried one.
func (f Finder) Elsewhere(ctx context.Context, want Want, tried Secret) (reference string, saw Source) {
	type place struct {
		reference string
		keeper    Keeper
	}
	var places []place
	if f.Wallet != nil {
		places = append(places, place{string(Wallet), f.Wallet("")})
	}
	if f.CredentialFile != nil {
		places = append(places, place{string(Credentials), f.CredentialFile("")})
	}
	for _, each := range places {
		if each.reference == want.Ref.String() {
			continue
		}
		if s, saw, err := each.keeper.Look(ctx, want.Target, Quietly); err == nil && s.Given() &&
			!(tried.Given() && s.Reveal() == tried.Reveal()) {
			return each.reference, saw
		}
	}
	return "", Source{}
}

// search looks where a secret without a reference may be.
func (f Finder) search(ctx context.Context, want Want) (Secret, Source, error) {
	if f.Known.Given() {
		return f.Known, Source{Kind: Search, Saw: "from the connection string"}, nil
	}
	none := &finding.Problem{Code: finding.SecretNone,
		Facts: finding.Facts{finding.FactDetail: "The profile says nothing about its secret, and no source that " +
			"was looked at has one."},
		Tried: []string{"secret: the profile has no such setting"}}
	places := f.Wallets
	if f.CredentialFile != nil {
		places = append(places[:len(places):len(places)], f.CredentialFile(""))
	}
	how := f.how(Searched)
	if want.Spared {
		how = Quietly // where none may be needed, nobody is asked to open anything
	}
	var locked *finding.Problem
	for _, place := range places {
		secret, saw, err := place.Look(ctx, want.Target, how)
		var problem *finding.Problem
		if err == nil || !errors.As(err, &problem) || !slices.Contains(passable, problem.Code) {
			return secret, saw, err
		}
		if problem.Code == finding.SecretWalletLocked && locked == nil {
			locked = problem
		}
		if (problem.Code == finding.SecretBoundElsewhere || problem.Code == finding.SecretAliasChanged) &&
			none.Code == finding.SecretNone {
			none.Code = problem.Code
			for _, fact := range []finding.Fact{finding.FactDetail, finding.FactInWallet, finding.FactInCredentials} {
				none.Facts[fact] = problem.Facts[fact]
			}
		}
		if problem.Tried == nil {
			problem.Tried = []string{strings.TrimSuffix(problem.Facts[finding.FactDetail], ".")}
		}
		none.Tried = append(none.Tried, problem.Tried...)
	}
	if want.Spared {
		saw := "none stored; none is sent on this connection"
		if locked != nil {
			saw += " (a wallet that opens with its passphrase was left closed; secret: wallet opens it)"
		}
		return Secret{}, Source{Kind: None, Saw: saw}, nil
	}
	none.Tried = append(none.Tried, "connection: neither a socket nor a client certificate, so the server will "+
		"ask for a password")
	if f.Ask != nil {
		return f.ask(ctx, want)
	}
	none.Tried = append(none.Tried, "terminal: there is none to ask at")
	if locked != nil && none.Code == finding.SecretNone {
		// It may well be in there, and that is what to see to.
		closed := *locked
		closed.Tried = none.Tried
		return Secret{}, Source{}, &closed
	}
	return Secret{}, Source{}, none
}

// Prompt is what a person is asked for a target's password.
func Prompt(dest target.Target) string {
	return fmt.Sprintf("Password of %s at %s", dest.User, dest.Place())
}

// TypedSaw is where a secret came from that a person typed.
const TypedSaw = "typed at the terminal"

func (f Finder) ask(ctx context.Context, want Want) (Secret, Source, error) {
	secret, err := f.Ask(ctx, want.Target)
	if err != nil {
		return Secret{}, Source{}, err
	}
	if !secret.Given() {
		return secret, Source{Kind: Ask, Saw: "none, as was answered"}, nil
	}
	if f.AskSaw != "" {
		return secret, Source{Kind: Ask, Saw: f.AskSaw}, nil
	}
	return secret, Source{Kind: Ask, Saw: TypedSaw}, nil
}

func (f Finder) variable(name string) (Secret, Source, error) {
	text, ok := "", false
	if f.Env != nil {
		text, ok = f.Env(name)
	}
	if !ok {
		return Secret{}, Source{}, &finding.Problem{Code: finding.SecretVariableUnset,
			Facts: finding.Facts{finding.FactDetail: "The environment variable " + name +
				" is not set, and the profile's secret is to come from it."}}
	}
	if err := Usable(text); err != nil {
		return Secret{}, Source{}, &finding.Problem{Code: finding.SecretUnusable,
			Facts: finding.Facts{finding.FactDetail: "The environment variable " + name + " " + err.Error() + "."}}
	}
	return New(text), Source{Kind: Variable, Saw: "from the environment variable " + name}, nil
}

// ReadFile gives the whole of a file, one trailing newline (LF or CRLF) cut, as a secret. The
// file must be a regular one of at most MaxSize bytes that only its owner can read, and its owner
// must be this user or root; its folder must be theirs too and closed to others' writes. The
// error is a *finding.Problem.
func ReadFile(path string) (Secret, error) {
	data, err := ReadGuarded(path, MaxSize+2)
	if err != nil {
		return Secret{}, err
	}
	text := TrimNewline(string(data))
	if err := Usable(text); err != nil {
		return Secret{}, &finding.Problem{Code: finding.SecretUnusable,
			Facts: finding.Facts{finding.FactDetail: "The file " + path + " " + err.Error() + "."}}
	}
	return New(text), nil
}

// TrimNewline cuts one newline, LF or CRLF, from a text's end.
func TrimNewline(text string) string {
	if cut, ok := strings.CutSuffix(text, "\n"); ok {
		return strings.TrimSuffix(cut, "\r")
	}
	return text
}

// ReadGuarded reads a file of secrets of at most limit bytes, once its owner, its mode and its
// folder are known to be safe. The error is a *finding.Problem.
func ReadGuarded(path string, limit int64) ([]byte, error) {
	file, info, err := files.Open(path)
	if err != nil {
		return nil, fileProblem(path, err)
	}
	defer file.Close()
	if problem := guarded(path, info); problem != nil {
		return nil, problem
	}
	if info.Size() > limit {
		return nil, tooLarge(path, limit)
	}
	b := bytes.NewBuffer(make([]byte, 0, info.Size()+512))
	if n, err := io.Copy(b, io.LimitReader(file, limit+1)); err != nil {
		return nil, fileProblem(path, err)
	} else if n > limit {
		return nil, tooLarge(path, limit)
	}
	return b.Bytes(), nil
}

func tooLarge(path string, limit int64) *finding.Problem {
	return &finding.Problem{Code: finding.SecretUnusable,
		Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("The file %s has more than %d KB, the most that it may have.",
			path, limit>>10)}}
}

// Guard says why a file that holds secrets, or its folder, is not safe to use; nil when it is, or
// is not there.
func Guard(path string) *finding.Problem {
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	return guarded(path, info)
}

// GuardFolder says why a folder is not safe to have files of secrets in it; nil when it is, or is
// not there.
func GuardFolder(folder string) *finding.Problem { return guardedFolder(folder) }

// NotReadable is the problem of a file or a folder with secrets that this account may not read.
// It is not missing: nothing is to be made in its place.
func NotReadable(path string) *finding.Problem {
	return &finding.Problem{Code: finding.SecretNotReadable,
		Facts: finding.Facts{finding.FactDetail: path + " is not readable for you.",
			finding.FactFix: "Look at whose it is, and whose its folder is: " + shell.Look(path)},
		Tried: []string{path + " is not readable for this account"}}
}

func fileProblem(path string, err error) *finding.Problem {
	switch {
	case errors.Is(err, files.ErrKind):
		return &finding.Problem{Code: finding.SecretNotAFile,
			Facts: finding.Facts{finding.FactDetail: path +
				" is not a regular file: it is a folder, a pipe, a socket or a device.",
				finding.FactFix: "Look at what it is: " + shell.Look(path)}}
	case errors.Is(err, fs.ErrNotExist):
		return &finding.Problem{Code: finding.SecretFileMissing,
			Facts: finding.Facts{finding.FactDetail: "There is no file " + path + "."}}
	case errors.Is(err, fs.ErrPermission):
		return NotReadable(path)
	}
	return &finding.Problem{Code: finding.SecretFileMissing,
		Facts: finding.Facts{finding.FactDetail: "The file " + path + " could not be read: " + err.Error() + "."}}
}

// Usable reports whether a text can be a password at all: both protocols end it at a zero byte.
func Usable(text string) error {
	switch {
	case len(text) > MaxSize:
		return fmt.Errorf("has more than %d KB, which is no password", MaxSize>>10)
	case strings.ContainsRune(text, 0):
		return errors.New("has a zero byte, which no password can")
	}
	return nil
}
