package container

import (
	"context"
	"maps"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/distribution/reference"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/target"
)

// Container is what an engine says of a container. Its texts are words from outside, but for its
// name, which is of letters, digits, ".", "_" and "-".
type Container struct {
	ID, Name string
	// Image is as it was asked for, Repository the same in full and without a tag:
	// "docker.io/library/postgres".
	Image, Repository string
	// Service and Project are of a Compose file, "" for none, Number which replica it is, and
	// Folder where the project is.
	Service, Project, Folder string
	Number                   int
	Start                    []string // its entrypoint, an empty word, and its command
	OneOff                   bool     // made to run one command of the service, and not to serve
	// State is created, running, paused, restarting, removing, exited or dead.
	State    string
	ExitCode int
	// Made is when the container was created; Began and Ended are of its last run, zero for none.
	Made, Began, Ended time.Time
	// Health is starting, healthy or unhealthy, "" where nothing checks it; HealthSays is the
	// check's last words.
	Health     string
	HealthSays outside.Raw
	// Published are the ports of the engine's host that lead in, and HostNetwork says that the
	// container has that host's own network.
	Published   []Published
	HostNetwork bool
	Networks    []Network
	Mounts      []Mount

	terminal bool
	env      []string
	at       Engine // set in the list of [Here]
}

// Published is a port of the engine's host that leads to one inside a container.
type Published struct {
	Inside, Port int
	Address      netip.Addr // on which the host listens; unspecified for all
}

// Network is a network that a container is on.
type Network struct {
	Name             string
	Address, Gateway netip.Addr
}

// Mount is something that outlives a container.
type Mount struct {
	Kind, Name, To string // "volume", "bind" or another; the volume's name; the folder inside
}

// Labels that Compose gives its containers.
const (
	labelProject = "com.docker.compose.project"
	labelService = "com.docker.compose.service"
	labelNumber  = "com.docker.compose.container-number"
	labelOneOff  = "com.docker.compose.oneoff"
	labelFolder  = "com.docker.compose.project.working_dir"
)

// Inspect gives the container of a name or an id. The error is a *finding.Problem; found is nil
// and the error too where there is none.
func (c *Client) Inspect(ctx context.Context, name string) (*Container, error) {
	answer, err := c.api.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	switch {
	case err == nil:
		found := contained(answer.Container)
		if !found.named() {
			return nil, c.problem(finding.ContainerEngineFailed,
				outside.Said("the container that it answers with has a name, an id or an image that no container engine gives"),
				nil)
		}
		return found, nil
	case notFound(err):
		return nil, nil
	case strings.Contains(err.Error(), "ultiple"): // an id's beginning that several containers have
		return nil, &finding.Problem{Code: finding.ContainerSeveral, Err: err, Words: outside.Said(err.Error()),
			Facts: finding.Facts{finding.FactEngine: c.Engine.Place()}}
	}
	return nil, c.failure(ctx, err)
}

// contained takes an engine's answer over.
func contained(in container.InspectResponse) *Container {
	out := &Container{ID: in.ID, Name: strings.TrimPrefix(in.Name, "/"), Made: when(in.Created)}
	if in.Config != nil {
		out.Image, out.env, out.terminal = in.Config.Image, in.Config.Env, in.Config.Tty
		out.labels(in.Config.Labels)
		out.Start = append(append(slices.Clone(in.Config.Entrypoint), ""), in.Config.Cmd...)
	}
	out.Repository = Repository(out.Image)
	if s := in.State; s != nil {
		out.State, out.ExitCode, out.Began, out.Ended = string(s.Status), s.ExitCode, when(s.StartedAt), when(s.FinishedAt)
		if s.Health != nil && s.Health.Status != container.NoHealthcheck {
			out.Health = string(s.Health.Status)
			if n := len(s.Health.Log); n > 0 && s.Health.Log[n-1] != nil {
				out.HealthSays = outside.Said(s.Health.Log[n-1].Output).Trimmed("")
			}
		}
	}
	if in.HostConfig != nil {
		out.HostNetwork = in.HostConfig.NetworkMode == "host"
	}
	for _, mount := range in.Mounts {
		name := mount.Name
		if !target.IsContainerWord(name) { // a folder of the host's has none
			name = ""
		}
		out.Mounts = append(out.Mounts, Mount{string(mount.Type), name, mount.Destination})
	}
	if in.NetworkSettings == nil {
		return out
	}
	for port, bindings := range in.NetworkSettings.Ports {
		for _, each := range bindings {
			n, err := strconv.Atoi(each.HostPort)
			if err != nil || n < 1 || n > 65535 || port.Proto() != "tcp" {
				continue
			}
			address := each.HostIP
			if !address.IsValid() {
				address = netip.IPv4Unspecified()
			}
			out.Published = append(out.Published, Published{int(port.Num()), n, address.Unmap()})
		}
	}
	slices.SortFunc(out.Published, func(a, b Published) int {
		if a.Inside != b.Inside {
			return a.Inside - b.Inside
		}
		if a.Port != b.Port {
			return a.Port - b.Port
		}
		return a.Address.Compare(b.Address)
	})
	for name, network := range in.NetworkSettings.Networks {
		if network == nil || !network.IPAddress.IsValid() || !target.IsContainerWord(name) {
			continue
		}
		out.Networks = append(out.Networks, Network{name, network.IPAddress, network.Gateway})
	}
	slices.SortFunc(out.Networks, func(a, b Network) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// named reports whether the name and the id are such as engines give: a remedy names them, and
// they are parts of paths.
func (c *Container) named() bool {
	return target.IsContainerWord(c.ID) && target.IsContainerWord(c.Name) && len(c.Image) <= maxImage
}

// labels takes over what Compose's labels say. A service or a project whose name Compose would
// not allow is none.
func (c *Container) labels(labels map[string]string) {
	c.Project, c.Service, c.Folder = labels[labelProject], labels[labelService], labels[labelFolder]
	if !target.IsContainerWord(c.Project) || !target.IsContainerWord(c.Service) {
		c.Project, c.Service = "", ""
	}
	c.OneOff = strings.EqualFold(labels[labelOneOff], "true")
	c.Number, _ = strconv.Atoi(labels[labelNumber])
}

func when(text string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil || t.Year() < 1970 {
		return time.Time{}
	}
	return t
}

// maxImage is how long an image's name may be; engines allow less.
const maxImage = 4 << 10

// Repository gives an image's name in full and without its tag; as it is where it is no image's
// name.
func Repository(image string) string {
	if len(image) > maxImage { // the library looks at it with regular expressions
		return image
	}
	named, err := reference.ParseNormalizedNamed(image)
	if err != nil {
		return image
	}
	return reference.TrimNamed(named).Name()
}

// Running reports whether the container runs and is not paused.
func (c *Container) Running() bool { return c.State == "running" }

// Words gives the container as a profile names it.
func (c *Container) Words() target.Contained {
	if c.Service != "" && c.Project != "" {
		if made, err := target.NewContained(target.Contained{Service: c.Service, Project: c.Project}); err == nil {
			return made
		}
	}
	return target.Contained{Name: c.Name}
}

// List gives all containers of the engine, running or not, by name, as a list has them: without
// variables, times and health.
func (c *Client) List(ctx context.Context) ([]*Container, error) {
	answer, err := c.api.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return nil, c.failure(ctx, err)
	}
	var list []*Container
	for _, each := range answer.Items[:min(len(answer.Items), maxContainers)] {
		found := &Container{ID: each.ID, Image: each.Image, Repository: Repository(each.Image), State: string(each.State)}
		found.labels(each.Labels)
		if len(each.Names) > 0 {
			found.Name = strings.TrimPrefix(each.Names[0], "/")
		}
		for _, port := range each.Ports {
			if port.PublicPort != 0 && port.Type == "tcp" {
				found.Published = append(found.Published, Published{int(port.PrivatePort), int(port.PublicPort), port.IP})
			}
		}
		if found.named() {
			list = append(list, found)
		}
	}
	slices.SortFunc(list, func(a, b *Container) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}

// Service gives the container of a Compose service: the running one with the lowest number, or
// the one with the number that is asked for. Where the project is left out it is the one of the
// folder that is given, or of the nearest one above it. The error is a *finding.Problem; it is
// nil where there is no such container.
func (c *Client) Service(ctx context.Context, want target.Contained, folder string) (*Container, error) {
	filters := make(client.Filters).Add("label", labelService+"="+want.Service)
	if want.Project != "" {
		filters.Add("label", labelProject+"="+want.Project)
	}
	answer, err := c.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: filters})
	if err != nil {
		return nil, c.failure(ctx, err)
	}
	var best container.Summary
	var bestOf Container
	projects, folders := map[string]bool{}, map[string]bool{}
	items := answer.Items[:min(len(answer.Items), maxContainers)]
	at := ""
	if want.Project == "" {
		at = nearestFolder(items, folder)
	}
	for _, each := range items {
		var labels Container
		labels.labels(each.Labels)
		if labels.Service != want.Service || labels.OneOff ||
			want.Project != "" && labels.Project != want.Project || want.Number != 0 && labels.Number != want.Number {
			continue
		}
		if want.Project == "" && (at == "" || labels.Folder != at) {
			continue
		}
		projects[labels.Project], folders[labels.Folder] = true, true
		labels.State = string(each.State)
		if best.ID == "" || labels.Running() && !bestOf.Running() ||
			labels.Running() == bestOf.Running() && labels.Number < bestOf.Number {
			best, bestOf = each, labels
		}
	}
	switch {
	case len(projects) > 1:
		names := make([]string, 0, len(projects))
		for name := range projects {
			names = append(names, name)
		}
		slices.Sort(names)
		return nil, &finding.Problem{Code: finding.ContainerSeveral,
			Facts: finding.Facts{finding.FactEngine: c.Engine.Place(), finding.FactNames: strings.Join(names, ", ")}}
	case len(folders) > 1: // two folders with one name are two projects
		return nil, &finding.Problem{Code: finding.ContainerSeveral,
			Facts: finding.Facts{finding.FactEngine: c.Engine.Place(),
				finding.FactFolders: strings.Join(slices.Sorted(maps.Keys(folders)), ", ")}}
	case best.ID == "":
		return nil, nil
	}
	return c.Inspect(ctx, best.ID)
}

// nearestFolder gives the folder of the project that a folder is in: its own, or the nearest one
// above it that one of the containers names; "" for none.
func nearestFolder(items []container.Summary, folder string) (nearest string) {
	places := []string{filepath.Clean(folder)}
	if real, err := filepath.EvalSymlinks(folder); err == nil {
		places = append(places, real)
	}
	for _, each := range items {
		at := each.Labels[labelFolder]
		for _, place := range places {
			below, err := filepath.Rel(at, place)
			if filepath.IsAbs(at) && err == nil && filepath.IsLocal(below) && len(at) > len(nearest) {
				nearest = at
			}
		}
	}
	return nearest
}

// Find gives the container that a profile names, nil where there is none. The error is a
// *finding.Problem.
func (c *Client) Find(ctx context.Context, want target.Contained, folder string) (*Container, error) {
	if want.Service != "" {
		return c.Service(ctx, want, folder)
	}
	return c.Inspect(ctx, want.Name)
}
