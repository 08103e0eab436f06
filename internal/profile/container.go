package profile

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/target"
)

// containerKeys are the keys of a container that is written as a map, in the order in which they
// are shown.
var containerKeys = []string{"name", "service", "project", "number", "port", "reach"}

// ParseContainer reads a container as the setting has it: NAME[:PORT],
// SERVICE[#NUMBER]@[PROJECT][:PORT], or a map in braces with the keys name, service, project,
// number, port and reach. An empty text is no container.
func ParseContainer(text string) (target.Contained, error) {
	if text == "" {
		return target.Contained{}, nil
	}
	if !strings.HasPrefix(strings.TrimSpace(text), "{") {
		return target.ParseContained(text)
	}
	parts, err := inBraces(text, "a container",
		"NAME, SERVICE@PROJECT, or a map such as {name: hutdb, port: 5432, reach: exec}")
	if err != nil {
		return target.Contained{}, err
	}
	return containerOf(parts)
}

func containerOf(parts map[string]string) (target.Contained, error) {
	c := target.Contained{Name: parts["name"], Service: parts["service"], Project: parts["project"], Reach: parts["reach"]}
	for name, value := range parts {
		if !slices.Contains(containerKeys, name) {
			if near := Nearest(name, containerKeys); near != "" {
				return c, fmt.Errorf("%s is no part of a container; did you mean %s?", quoted(name), near)
			}
			return c, fmt.Errorf("%s is no part of a container; it has %s", quoted(name), strings.Join(containerKeys, ", "))
		}
		if name == "port" {
			if err := checkPort(value); err != nil {
				return c, err
			}
			c.Port, _ = strconv.Atoi(value)
		}
		if name == "number" {
			n, err := strconv.Atoi(value)
			if err != nil || n < 1 || n > 9999 {
				return c, &ValueError{value, "is not the number of a replica; write a whole number from 1"}
			}
			c.Number = n
		}
	}
	return target.NewContained(c)
}

// ContainerText writes a container as ParseContainer reads it: short where that says all, else as
// a map in braces.
func ContainerText(c target.Contained) string {
	if c.Reach == "" {
		return c.String()
	}
	values := map[string]string{"name": c.Name, "service": c.Service, "project": c.Project, "reach": c.Reach}
	for name, n := range map[string]int{"number": c.Number, "port": c.Port} {
		if n != 0 {
			values[name] = strconv.Itoa(n)
		}
	}
	return braces(containerKeys, values)
}

func checkContainer(text string) error {
	_, err := ParseContainer(text)
	return err
}

// containerMode gives the encryption that holds for a container where nobody says one: none at
// this machine's own engine, and behind a hop to another, which ends at that machine's own
// address.
func (d Decided) containerMode() string {
	if d.far {
		return "verify"
	}
	return "off"
}

// InContainer reports whether a container says where the server is.
func (e Effective) InContainer() bool { return e.Contained != target.Contained{} }

// InsidePort gives the port inside the container: the one that is said, else the engine's.
func (e Effective) InsidePort() int {
	info, _ := known.Info(e.Engine)
	return cmp.Or(e.Contained.Port, info.Port)
}

// AtAddress gives the profile with the address at which its container is now.
func (e Effective) AtAddress(host string, port int) Effective {
	e.Contained, e.Host, e.Port = target.Contained{}, host, port
	return e
}

// ComposeFolder gives the folder whose Compose project is taken where a container's project is
// left out: that of the project whose file says it, else a folder that is given.
func (e Effective) ComposeFolder(otherwise string) string {
	if project := e.Values["container"].Origin.Project; project != "" {
		return filepath.Dir(project)
	}
	return otherwise
}

// oneMap reads a setting that is a text, or a map that stands for it.
func (r *reader) oneMap(setting string, value *yaml.Node) {
	if value.Kind != yaml.MappingNode {
		r.scalar(setting, value)
		return
	}
	parts, ok := r.words(value)
	if !ok {
		return
	}
	text, err := oneMaps[setting](parts)
	if err != nil {
		r.fail(value, "%s: %v", setting, err)
		return
	}
	r.layer[setting] = Value{Text: text, Origin: r.at(value)}
}

// oneMaps has, for each setting that may be a map, what writes the map as one text.
var oneMaps = map[string]func(parts map[string]string) (string, error){
	"container": func(parts map[string]string) (string, error) {
		c, err := containerOf(parts)
		return ContainerText(c), err
	},
	"cloud": func(parts map[string]string) (string, error) {
		c, err := cloudOf(parts)
		return CloudText(c), err
	},
}
