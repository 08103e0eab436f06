package script

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
)

// Source is where statements come from: a text, a file, or what can be read only once.
type Source struct {
	Name string    // as a person wrote it; "" for an argument
	Text string    // of an argument
	Path string    // of a file
	Pipe io.Reader // of what can be read only once
}

// Step is a statement that is ready to run.
type Step struct {
	Bound
	File string // "" for an argument
	N    int    // its number, from 1
	// Data is what follows a statement that reads data, in the same file; nil for an argument,
	// whose data comes from elsewhere.
	Data io.Reader
	// Local is the file of this machine that the statement names, "" for none, and OpenLocal
	// opens it. It is in the main script's folder.
	Local     string
	OpenLocal func() (io.ReadCloser, error)
	// Bytes is how much of all sources was passed.
	Bytes int64
}

// Program is statements from sources, with the files that these include. What it reads twice must
// be the same both times.
type Program struct {
	Language engine.Language
	Words    Words
	Values   Values
	Sources  []Source

	// Included lists the files that others include, in the order of the last walk.
	Included []string

	seen  map[string]fs.FileInfo // files, as they were at first
	bytes int64
}

// FileError is a mistake in a file, or about one that it includes.
type FileError struct {
	File string
	Err  error // a *LineError or a *PlaceError where the place is known
}

// Error gives the mistake with its file.
func (e *FileError) Error() string { return e.File + ": " + e.Err.Error() }

// Unwrap gives the mistake.
func (e *FileError) Unwrap() error { return e.Err }

// Bounds of what scripts include.
const (
	mostDeep     = 30
	mostIncluded = 5000
)

// Pipes reports whether a source can be read only once.
func (p *Program) Pipes() bool {
	return slices.ContainsFunc(p.Sources, func(s Source) bool { return s.Pipe != nil })
}

// Walk gives each statement of all sources to do, in order, with the statements of an included
// file where the line that includes it is. Sources that can be read only once are left out where
// again is false: then nothing is done, and what do gets is what will run. Its errors are do's,
// or a *FileError.
func (p *Program) Walk(again bool, do func(Step) error) error {
	if p.seen == nil {
		p.seen = map[string]fs.FileInfo{}
	}
	w := &walk{p: p, do: do, language: p.Language}
	p.bytes, p.Included = 0, nil
	for _, s := range p.Sources {
		var err error
		switch {
		case s.Pipe != nil && !again:
		case s.Pipe != nil:
			err = w.read(s.Name, s.Pipe, "")
		case s.Path != "":
			err = w.main(s)
		default:
			err = w.read(s.Name, strings.NewReader(s.Text), "")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// walk is one reading of a program.
type walk struct {
	p        *Program
	do       func(Step) error
	language engine.Language // as the statements so far have set it
	n        int
	folder   *os.Root      // of the main script that is read; nothing of another folder is
	stack    []fs.FileInfo // the files that are read
	included int
}

// main reads a file that a person has named, which may be a link to one.
func (w *walk) main(s Source) error {
	path, err := filepath.EvalSymlinks(s.Path)
	if err != nil {
		return &FileError{s.Name, err}
	}
	if w.folder, err = os.OpenRoot(filepath.Dir(path)); err != nil {
		return &FileError{s.Name, err}
	}
	defer w.folder.Close()
	return w.file(s.Name, filepath.Base(path))
}

// file reads a file of the main script's folder, by its path from there.
func (w *walk) file(name, path string) error {
	file, info, err := files.OpenIn(w.folder, path)
	if err != nil {
		return &FileError{name, err}
	}
	defer file.Close()
	key := filepath.Join(w.folder.Name(), path)
	if was, known := w.p.seen[key]; known &&
		(!os.SameFile(was, info) || was.Size() != info.Size() || !was.ModTime().Equal(info.ModTime())) {
		return &FileError{name, errors.New("it was changed while its statements were checked; run it again")}
	}
	w.p.seen[key] = info
	var from io.Reader = file
	if strings.HasSuffix(path, ".gz") {
		if from, err = gzip.NewReader(file); err != nil {
			return &FileError{name, err}
		}
	}
	w.stack = append(w.stack, info)
	defer func() { w.stack = w.stack[:len(w.stack)-1] }()
	return w.read(name, from, path)
}

// read reads a text; path is that of its file from the main script's folder, "" for none.
func (w *walk) read(name string, from io.Reader, path string) error {
	r := NewReader(w.language, from)
	r.Words, r.Begins = w.p.Words, name != ""
	before := w.p.bytes
	for {
		r.Language.Lexical = w.language.Lexical
		piece, err := r.Next()
		w.p.bytes = before + r.Passed()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return &FileError{name, err}
		case piece.Include != "":
			if err := w.include(name, path, piece); err != nil {
				return err
			}
			before = w.p.bytes - r.Passed()
			continue
		}
		if err := w.statement(name, path, r, piece.Statement); err != nil {
			return err
		}
	}
}

// statement gives one statement to do, and what it reads.
func (w *walk) statement(name, path string, r *Reader, s Statement) error {
	bound, err := Bind(w.language, s, w.p.Values)
	w.n++
	step := Step{Bound: bound, File: name, N: w.n, Bytes: w.p.bytes}
	if err != nil {
		return &FileError{name, &numbered{err, w.n}}
	}
	var data io.Reader
	if name != "" && w.language.ReadsInput(s.Text) {
		data = r.Data()
		step.Data = data
	}
	if local, is := w.language.LocalFile(s.Text); is && path != "" {
		at := w.beside(path, local)
		file, _, err := files.OpenIn(w.folder, at)
		if err != nil {
			return &FileError{name, &LineError{Spot: s.Where(0),
				Say: fmt.Sprintf("the statement names the file %s of this machine, which %s", local, w.why(at, err))}}
		}
		_ = file.Close()
		step.Local, step.OpenLocal = local, func() (io.ReadCloser, error) {
			file, _, err := files.OpenIn(w.folder, at)
			return file, err
		}
	}
	if err := w.do(step); err != nil {
		return err
	}
	if data != nil { // what was not wanted is no statement
		if _, err := io.Copy(io.Discard, data); err != nil {
			return &FileError{name, err}
		}
	}
	if w.language.Follow != nil {
		w.language.Lexical = w.language.Follow(w.language.Lexical, s.Text)
	}
	return nil
}

// numbered is a mistake in a statement of some number.
type numbered struct {
	error
	n int
}

// Unwrap gives the mistake.
func (n *numbered) Unwrap() error { return n.error }

// Number gives the number of the statement that an error is about, 0 for none.
func Number(err error) int {
	var n *numbered
	if errors.As(err, &n) {
		return n.n
	}
	return 0
}

// beside gives the path, from the main script's folder, of a file that another one names.
func (w *walk) beside(path, to string) string {
	if !filepath.IsAbs(to) {
		return filepath.Join(filepath.Dir(path), filepath.FromSlash(to))
	}
	if from, err := filepath.Rel(w.folder.Name(), to); err == nil {
		return from
	}
	return to
}

// why says what is wrong with a file that is named in a script.
func (w *walk) why(path string, err error) string {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("is not there (looked for at %s)", filepath.Join(w.folder.Name(), path))
	case errors.Is(err, files.ErrOutside):
		return "is outside of the main script's folder " + w.folder.Name()
	case errors.Is(err, files.ErrKind):
		return files.ErrKind.Error()
	}
	return fmt.Sprintf("cannot be read: %v", err)
}

// include reads a file that another one includes. It must be in the main script's folder, or
// below it.
func (w *walk) include(name, path string, piece Piece) error {
	wrong := func(format string, of ...any) error {
		return &FileError{name, &LineError{Spot: piece.Where(0), Say: fmt.Sprintf(format, of...)}}
	}
	if path == "" {
		return wrong("a file is included, and what comes from a pipe or an argument has no folder in which it " +
			"could be: put the statements into a file, and give it with --from FILE")
	}
	at := w.beside(path, piece.Include)
	file, info, err := files.OpenIn(w.folder, at)
	if err != nil {
		return wrong("the file %s is included, and %s", piece.Include, w.why(at, err))
	}
	_ = file.Close()
	switch w.included++; {
	case slices.ContainsFunc(w.stack, func(open fs.FileInfo) bool { return os.SameFile(open, info) }):
		return wrong("the file %s is included, and includes this one: that has no end", piece.Include)
	case len(w.stack) >= mostDeep:
		return wrong("files include each other more than %d deep", mostDeep)
	case w.included > mostIncluded:
		return wrong("more than %d files are included", mostIncluded)
	}
	shown := piece.Include
	if !filepath.IsAbs(shown) {
		shown = filepath.Join(filepath.Dir(name), filepath.FromSlash(shown))
	}
	w.p.Included = append(w.p.Included, shown)
	return w.file(shown, at)
}
