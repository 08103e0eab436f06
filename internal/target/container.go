package target

import (
	"fmt"
	"strconv"
	"strings"
)

// Contained names a container of an engine: by its name or the beginning of its id, or as a
// service of a Compose project.
type Contained struct {
	// Name is the container's; it is "" where Service is set.
	Name string
	// Service is a Compose service, and Project its project; "" for the project of the folder
	// where one is.
	Service, Project string
	// Number chooses one of a service's replicas, from 1; 0 for the only one.
	Number int
	// Port is the port inside the container, 0 for the engine's usual one.
	Port int
	// Reach is "exec" where a stream through the container engine may be used when there is no
	// other way in, and "published" where an address that an engine on another machine names may
	// be connected to although it is not known to be that machine's; else "".
	Reach string
}

// ReachExec is the value of [Contained.Reach] that allows a stream through the container engine.
const ReachExec = "exec"

// ReachPublished is the value of [Contained.Reach] that allows the address at which a far engine
// says that a port is published.
const ReachPublished = "published"

// ParseContained reads NAME[:PORT], or SERVICE[#NUMBER]@[PROJECT][:PORT]. The words are those
// that container engines and Compose allow: letters, digits, and . _ - behind the first.
func ParseContained(text string) (Contained, error) {
	var c Contained
	if before, port, said := strings.Cut(text, ":"); said {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 || strconv.Itoa(n) != port {
			return c, fmt.Errorf("the port inside a container is a whole number from 1 to 65535, as in hutdb:5432")
		}
		text, c.Port = before, n
	}
	service, project, is := strings.Cut(text, "@")
	if !is {
		c.Name = text
		return c.checked()
	}
	if before, number, said := strings.Cut(service, "#"); said {
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || n > 9999 || strconv.Itoa(n) != number {
			return c, fmt.Errorf("a service's replica is a whole number from 1, as in db#2@huts")
		}
		service, c.Number = before, n
	}
	c.Service, c.Project = service, project
	return c.checked()
}

// NewContained checks a container that is made of its parts.
func NewContained(c Contained) (Contained, error) {
	switch {
	case (c.Name == "") == (c.Service == ""):
		return c, fmt.Errorf("a container has either a name or a service")
	case c.Service == "" && (c.Project != "" || c.Number != 0):
		return c, fmt.Errorf("a project and a number go with a service")
	case c.Reach != "" && c.Reach != ReachExec && c.Reach != ReachPublished:
		return c, fmt.Errorf("a container's reach is %s or %s", ReachExec, ReachPublished)
	}
	return c.checked()
}

func (c Contained) checked() (Contained, error) {
	for _, word := range []string{c.Name, c.Service} {
		if word != "" && !isContainerWord(word) || c.Name == "" && c.Service == "" {
			return c, fmt.Errorf("a container's name, or a service's, has letters, digits, . _ and -, as in " +
				"hutdb, or db@huts for the service db of the project huts")
		}
	}
	if c.Project != "" && !isContainerWord(c.Project) {
		return c, fmt.Errorf("a Compose project's name has letters, digits, . _ and -")
	}
	return c, nil
}

// IsContainerWord reports whether a text can be the name of a container, of a Compose service or
// of a project.
func IsContainerWord(text string) bool { return isContainerWord(text) }

func isContainerWord(text string) bool {
	return text != "" && len(text) <= 255 && !strings.ContainsAny(text[:1], "._-") &&
		!strings.ContainsFunc(text, func(r rune) bool {
			return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("._-", r)
		})
}

// Words gives the container without its port and reach, as ParseContained reads it: "hutdb",
// "db@huts", "db#2@huts".
func (c Contained) Words() string {
	if c.Service == "" {
		return c.Name
	}
	text := c.Service
	if c.Number != 0 {
		text += "#" + strconv.Itoa(c.Number)
	}
	return text + "@" + c.Project
}

// String gives the container as ParseContained reads it. Its reach is not in it.
func (c Contained) String() string {
	if c.Port == 0 {
		return c.Words()
	}
	return c.Words() + ":" + strconv.Itoa(c.Port)
}

// Title gives the container for people: "the container hutdb", "the service db of the project
// huts".
func (c Contained) Title() string {
	switch {
	case c.Service == "":
		return "the container " + c.Name
	case c.Project == "":
		return "the service " + c.Service
	}
	return "the service " + c.Service + " of the project " + c.Project
}

// ContainerFacts are what a container is known by.
type ContainerFacts struct {
	Engine     string // the container engine's id
	Repository string // the image without the tag
	// Project is the Compose project, and Folder the folder that it is in: two folders with one
	// name are two projects.
	Project, Folder string
	// Start is what runs in the container: its entrypoint, an empty word, and its command.
	Start []string
}

// Define gives the definition of a container. What is kept for one is not sent to a container of
// the same name that is another in any of these.
func (f ContainerFacts) Define() Definition {
	return Definition{Addresses: []string{digest("engine", f.Engine), digest("project", f.Project, f.Folder),
		digest(append([]string{"start"}, f.Start...)...)}, How: digest("image", f.Repository)}
}
