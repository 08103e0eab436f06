// Package compose reads Compose files (compose-spec.io) for the database servers that they
// describe, with the specification's own library for what its values mean: interpolation,
// override files, extends, include, env files, secrets, short and long ports.
//
// Nothing is run. Files are read inside the project's folder alone, unless more is allowed; how
// many, how large and how deep is bounded. Each service comes with the file and line that says
// it, and a mistake in one service leaves the others.
package compose

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/compose-spec/compose-go/v2/override"

	"gentle-harbor/internal/container"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/secret"
)

// Bounds of what is read.
const (
	maxFile     = 512 << 10
	maxFiles    = 60 // each counts once
	maxReads    = 1000
	maxDepth    = 10
	maxServices = 500
)

// What one project may grow into while it is read: bytes that variables become, nodes of YAML and
// what is made of them, and published ports.
const (
	maxGrown = 4 << 20
	maxSteps = 30_000
	maxPorts = 5_000
	maxDot   = 1 << 20 // of one file of variables
)

// FileError is a mistake in a file.
type FileError struct {
	File string
	Line int // from 1, 0 where it is of the whole file
	Text string
}

// Error gives file, line and mistake.
func (e *FileError) Error() string {
	if e.Line == 0 {
		return e.File + ": " + e.Text
	}
	return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Text)
}

// Project is what a folder's Compose files say.
type Project struct {
	Name   string
	Folder string
	Files  []string // the first one first, then what overrides it
	// Services are those of database engines that are known, in the order of their names.
	Services []Service
	// Problems are mistakes that leave services out.
	Problems []error

	veil outside.Veil
}

// Veil masks what came from the environment: whoever wrote the files chose which variables stand
// where, so none of their values is shown. What is made of the project may hold them.
func (p *Project) Veil() outside.Veil { return p.veil }

// Service is a database server that a Compose file describes.
type Service struct {
	Project, Name string
	File          string
	Line          int
	Image         string
	Engine        engine.Info
	Named         bool // that the image is a well-known one of the engine; else its variables are such a one's
	// Accounts are what the service's variables make, the one to use first.
	Accounts []container.Account
	// Ports are those that are published.
	Ports       []Port
	HostNetwork bool
	// Profiles are Compose's: the service is only started when one of them is asked for; none for
	// always.
	Profiles []string
	// Volumes says that something is mounted.
	Volumes bool
	// Variables are the service's environment.
	variables map[string]string
}

// Port is a published port.
type Port struct {
	Inside  int
	Address string // on which the host listens, "" for all
	Outside string // a port or a range, "" for one that is chosen at the start
}

// Reader reads the Compose files at or above a folder.
type Reader struct {
	// Env looks a variable of the environment up, for interpolation and for COMPOSE_FILE and
	// COMPOSE_PROJECT_NAME.
	Env func(name string) (string, bool)
	// Outside allows files outside of the project's folder.
	Outside bool
}

// fileNames are those that Compose looks for, the first that is there, each with what overrides it.
var fileNames = [][]string{
	{"compose.yaml", "compose.override.yaml", "compose.override.yml"},
	{"compose.yml", "compose.override.yml", "compose.override.yaml"},
	{"docker-compose.yml", "docker-compose.override.yml", "docker-compose.override.yaml"},
	{"docker-compose.yaml", "docker-compose.override.yaml", "docker-compose.override.yml"},
}

// All gives the Compose files of a folder and of each one above it up to stop, the nearest first;
// each is a project of its own.
func (r Reader) All(folder, stop string) (projects [][]string) {
	for dir := filepath.Clean(folder); len(projects) < maxDepth; {
		files := r.At(dir, stop)
		if files == nil {
			return projects
		}
		projects = append(projects, files)
		at := filepath.Dir(files[0])
		if r.env("COMPOSE_FILE") != "" || at == filepath.Dir(at) || at == filepath.Clean(stop) {
			return projects
		}
		dir = filepath.Dir(at)
	}
	return projects
}

// At gives the Compose files of a folder, or of the nearest one above it up to stop; none where
// there are none.
func (r Reader) At(folder, stop string) (files []string) {
	if named := r.env("COMPOSE_FILE"); named != "" {
		mark := r.env("COMPOSE_PATH_SEPARATOR")
		if mark == "" {
			mark = string(os.PathListSeparator)
		}
		for _, each := range strings.Split(named, mark) {
			if !filepath.IsAbs(each) {
				each = filepath.Join(folder, each)
			}
			files = append(files, each)
		}
		return files
	}
	for dir := filepath.Clean(folder); ; dir = filepath.Dir(dir) {
		for _, names := range fileNames {
			if !isFile(filepath.Join(dir, names[0])) {
				continue
			}
			files = []string{filepath.Join(dir, names[0])}
			for _, more := range names[1:] {
				if path := filepath.Join(dir, more); isFile(path) {
					return append(files, path)
				}
			}
			return files
		}
		if dir == filepath.Dir(dir) || dir == filepath.Clean(stop) {
			return nil
		}
	}
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

func (r Reader) env(name string) string {
	if r.Env != nil {
		if text, set := r.Env(name); set {
			return text
		}
	}
	return ""
}

// Read reads a project of some files, the first one first. The error is a *FileError, for a
// project of which nothing can be said.
func (r Reader) Read(files []string) (*Project, error) {
	if len(files) == 0 {
		return nil, errors.New("no Compose file is named")
	}
	l := &load{reader: r, meter: newMeter(), taken: map[string]bool{}, files: map[string]bool{}}
	p, err := l.project(files)
	veil := l.veil()
	masked(veil, err)
	if p != nil {
		p.veil = veil
		for _, problem := range p.Problems {
			masked(veil, problem)
		}
	}
	return p, err
}

func newMeter() *budget.Meter {
	return &budget.Meter{Bytes: budget.Count{Limit: maxGrown}, Steps: budget.Count{Limit: maxSteps},
		Ports: budget.Count{Limit: maxPorts}, Files: budget.Count{Limit: maxReads}}
}

// masked masks the text of a mistake: the file's author chose where the values of the environment
// stand in it.
func masked(veil outside.Veil, err error) {
	var known *FileError
	if errors.As(err, &known) && veil.Holds(known.Text) {
		known.Text = veil.Text(known.Text)
	}
}

// veil masks the values of the environment that were filled in, also as the name of a project has
// them.
func (l *load) veil() outside.Veil {
	var v outside.Veil
	for _, text := range slices.Sorted(maps.Keys(l.taken)) {
		v.Secrets = append(v.Secrets, secret.New(text))
		if name := normal(text); name != text && name != "" {
			v.Secrets = append(v.Secrets, secret.New(name))
		}
	}
	return v
}

// project reads some files as one project.
func (l *load) project(files []string) (*Project, error) {
	folder := filepath.Dir(files[0])
	p := &Project{Folder: folder, Files: files}
	l.root = folder
	if real, err := filepath.EvalSymlinks(folder); err == nil {
		l.root = real
	}
	if err := l.environment(filepath.Join(folder, ".env"), false); err != nil {
		return nil, err
	}
	var all *model
	for _, file := range files {
		m, err := l.file(file, 0)
		if err != nil {
			return nil, err
		}
		if all, err = all.under(m); err != nil {
			return nil, err
		}
	}
	if p.Name = l.name(all); p.Name == "" {
		p.Name = normal(filepath.Base(l.root))
	}
	p.Problems = all.problems
	for _, name := range slices.Sorted(maps.Keys(all.services)) {
		service, known, err := l.service(all, name)
		if err != nil {
			p.Problems = append(p.Problems, err)
			continue
		}
		if known {
			service.Project = p.Name
			p.Services = append(p.Services, service)
		}
	}
	return p, nil
}

var projectLetters = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile("[a-z0-9_-]") })

// normal makes a project's name of a folder's (the Compose specification, "name").
func normal(text string) string {
	return strings.TrimLeft(strings.Join(projectLetters().FindAllString(strings.ToLower(text), -1), ""), "_-")
}

// name gives the project's name: the variable's, else the files'.
func (l *load) name(m *model) string {
	if name := l.reader.env("COMPOSE_PROJECT_NAME"); name != "" { // the user's own word for it, which may be shown
		return normal(name)
	}
	if name := l.dot["COMPOSE_PROJECT_NAME"]; name != "" {
		return normal(name)
	}
	if m.name == "" {
		return ""
	}
	name, err := l.substitute(m.name, l.lookup)
	if err != nil {
		m.problems = append(m.problems, m.nameAt.wrong(err))
		return ""
	}
	return normal(name)
}

// model is what one file says with all that it includes, or several of them over each other.
type model struct {
	name     string
	nameAt   place
	services map[string]map[string]any
	at       map[string]place // where each service is said, first
	secrets  map[string]secretSource
	problems []error
}

type secretSource struct {
	file, variable string
	from           place
}

// under puts another model over this one, as override files are.
func (m *model) under(over *model) (*model, error) {
	if m == nil {
		return over, nil
	}
	if over.name != "" {
		m.name, m.nameAt = over.name, over.nameAt
	}
	for name, service := range over.services {
		base, there := m.services[name]
		if !there {
			m.services[name], m.at[name] = service, over.at[name]
			continue
		}
		merged, err := override.ExtendService(base, service)
		if err != nil {
			return m, over.at[name].wrong(errors.New("it cannot be put over the same service of another file"))
		}
		m.services[name] = merged
	}
	maps.Copy(m.secrets, over.secrets)
	m.problems = append(m.problems, over.problems...)
	return m, nil
}

// isMissing reports whether a file is not there.
func isMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }
