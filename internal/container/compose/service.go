package compose

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/container"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

// service makes a Service of what all files say of a name; known is false for one that is no
// database.
func (l *load) service(m *model, name string) (s Service, known bool, err error) {
	raw, at := m.services[name], m.at[name]
	s = Service{Name: name, File: at.file, HostNetwork: raw["network_mode"] == "host", Profiles: texts(raw["profiles"])}
	if at.node != nil {
		s.Line = at.node.Line
	}
	s.Image, _ = raw["image"].(string)
	volumes, _ := raw["volumes"].([]any)
	s.Volumes = len(volumes) > 0
	repository := container.Repository(s.Image)
	_, known = container.EngineOf(repository)
	if s.variables, err = l.variablesOf(raw, at); err != nil {
		if !known && raw["build"] == nil { // most likely it is no database, and its files are not ours to complain of
			err = nil
		}
		return s, false, err
	}
	if s.Engine, s.Named, known = container.EngineFor(repository, s.variables); !known {
		return s, false, nil
	}
	if s.Ports, err = portsOf(raw["ports"]); err != nil {
		return s, true, at.wrong(fmt.Errorf("the service %s: %w", outside.Cell(name), err))
	}
	s.Accounts = container.AccountsOf(s.Engine.Image, s.variables)
	for i := range s.Accounts {
		if err := l.secretFile(m, &s.Accounts[i]); err != nil {
			return s, true, err
		}
	}
	return s, true, nil
}

// variablesOf gives the environment of a service: that of its env files, then its own.
func (l *load) variablesOf(raw map[string]any, at place) (map[string]string, error) {
	all := map[string]string{}
	list, _ := raw["env_file"].([]any)
	for _, each := range list {
		entry, _ := each.(map[string]any)
		path, _ := entry["path"].(string)
		if path == "" {
			continue
		}
		err := l.variables(path, at, all)
		if isMissing(err) && entry["required"] == false {
			continue
		}
		var known *FileError
		if err != nil && !errors.As(err, &known) {
			return nil, at.wrong(fmt.Errorf("its env_file %s: %s", outside.Text(path), plain(err)))
		}
		if err != nil {
			return nil, err
		}
	}
	set := func(name string, value any) {
		if value == nil { // the environment's own, where it is set
			if text, is := l.lookup(name); is {
				all[name] = text
			}
			return
		}
		all[name] = fmt.Sprint(value)
	}
	switch own := raw["environment"].(type) {
	case map[string]any:
		for name, value := range own {
			set(name, value)
		}
	case []any:
		for _, each := range own {
			name, value, said := strings.Cut(fmt.Sprint(each), "=")
			if said {
				set(name, value)
			} else {
				set(name, nil)
			}
		}
	}
	return all, nil
}

// secretFile reads an account's password where it is a Compose secret.
func (l *load) secretFile(m *model, a *container.Account) error {
	name, is := strings.CutPrefix(a.File, "/run/secrets/")
	source, said := m.secrets[name]
	if !is || !said {
		return nil
	}
	if source.variable != "" {
		if text, set := l.lookup(source.variable); set {
			a.Password, a.From = secret.New(text), source.variable
		}
		return nil
	}
	if source.file == "" {
		return nil // it is kept outside of the files
	}
	data, err := l.read(source.file, source.from)
	var known *FileError
	if errors.As(err, &known) {
		return known
	}
	if err != nil {
		return source.from.wrong(fmt.Errorf("the secret %s: %s", outside.Text(source.file), plain(err)))
	}
	if len(data) <= secret.MaxSize {
		a.Password, a.From = secret.New(strings.TrimRight(string(data), "\r\n")), filepath.Base(source.file)
	}
	return nil
}

// portsOf reads the published ports in their long form.
func portsOf(value any) ([]Port, error) {
	list, _ := value.([]any)
	var ports []Port
	for _, each := range list {
		long, ok := each.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("a port cannot be read")
		}
		p := Port{}
		switch n := long["target"].(type) {
		case int:
			p.Inside = n
		case uint32:
			p.Inside = int(n)
		default:
			if _, err := fmt.Sscan(fmt.Sprint(long["target"]), &p.Inside); err != nil {
				return nil, fmt.Errorf("a port cannot be read")
			}
		}
		if protocol, _ := long["protocol"].(string); protocol != "" && protocol != "tcp" {
			continue
		}
		if published := long["published"]; published != nil {
			p.Outside = fmt.Sprint(published)
		}
		p.Address, _ = long["host_ip"].(string)
		ports = append(ports, p)
	}
	return slices.Clip(ports), nil
}
