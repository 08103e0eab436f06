package harbor

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// choose has a person choose one of several lines by its number or its name; Enter alone takes
// the first. It gives the line's place in the list.
func (d *draft) choose(ctx context.Context, heading, question string, lines []string) (int, error) {
	if len(lines) == 1 {
		d.Who.Say(heading + ": " + lines[0])
		return 0, nil
	}
	n, _, err := d.pick(ctx, heading, question+" (%s) [1] ", lines, func(answer string) bool { return answer == "" })
	return max(n, 0), err
}

// pick lists lines and asks for one, by its number or by the name that it begins with, until the
// answer is one of them or another that is taken: then the place is -1, and answer is what was
// typed.
func (d *draft) pick(ctx context.Context, heading, question string, lines []string,
	taken func(answer string) bool) (place int, answer string, err error) {
	d.Who.Say(heading + ":")
	for i, line := range lines {
		d.Who.Say(fmt.Sprintf("  %d  %s", i+1, line))
	}
	numbers := "1"
	if len(lines) > 1 {
		numbers += fmt.Sprintf(" to %d", len(lines))
	}
	for {
		answer, err := d.Who.Ask(ctx, fmt.Sprintf(question, numbers))
		if err != nil || taken(answer) {
			return -1, answer, err
		}
		n, bad := strconv.Atoi(answer)
		if bad != nil {
			n = slices.IndexFunc(lines, func(line string) bool {
				name, _, _ := strings.Cut(line, "  ")
				return name == answer
			}) + 1
		}
		if n >= 1 && n <= len(lines) {
			return n - 1, answer, nil
		}
		d.Who.Say("  Type a number or a name of the list, or Enter alone.")
	}
}

// chooseCloud has a person choose account, server, replica and database from lists of what the
// clouds have.
func (d *draft) chooseCloud(ctx context.Context) error {
	names := d.CloudNames()
	if len(names) == 0 {
		return world.Wrong("there is no cloud account yet; gharbor cloud add NAME URL makes one")
	}
	i, err := d.choose(ctx, "Cloud accounts", "Which one", names)
	if err != nil {
		return err
	}
	c, err := d.clouds().CloudClient(names[i])
	if err != nil {
		return err
	}
	list, err := c.Servers(ctx, "")
	if err != nil {
		return clouds.Word(err)
	}
	wanted := d.layer["engine"].Text
	list = slices.DeleteFunc(list, func(s cloud.Server) bool {
		info, is := known.Info(s.Engine)
		return !is || wanted != "" && info.Name != wanted
	})
	if len(list) == 0 {
		return world.Wrong("the cloud account %s has no server of an engine that is known here", c.Account.Name)
	}
	slices.SortFunc(list, func(a, b cloud.Server) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	var lines []string
	for _, s := range list {
		lines = append(lines, outside.Cell(strings.Join([]string{s.Name,
			strings.TrimSpace(s.Engine + " " + s.Version), string(s.State), s.Region}, "  ")))
	}
	if i, err = d.choose(ctx, "Servers of "+c.Account.Name, "Which one", lines); err != nil {
		return err
	}
	s := list[i]
	chosen := target.Clouded{Account: c.Account.Name, Server: clouds.NameOrID(s, list)}
	if len(s.Replicas) > 0 {
		lines = []string{s.Name + "  the server itself, which takes changes"}
		for _, each := range s.Replicas {
			lines = append(lines, outside.Cell(each.Name+"  a replica to read from, "+string(each.State)+" "+each.Region))
		}
		if i, err = d.choose(ctx, "The server and its replicas", "Which one", lines); err != nil {
			return err
		}
		if i > 0 {
			chosen.Replica = s.Replicas[i-1].Name
		}
	}
	put := func(name, text string) {
		d.layer[name] = profile.Value{Text: text, Origin: profile.Origin{Layer: profile.LayerAnswer}}
	}
	put("engine", s.Engine)
	put("cloud", profile.CloudText(chosen))
	if _, said := d.layer["database"]; !said {
		databases, err := c.Databases(ctx, s.ID)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err == nil && len(databases) > 0 {
			if i, err = d.choose(ctx, "Databases of "+outside.Cell(s.Name), "Which one", databases); err != nil {
				return err
			}
			put("database", databases[i])
		}
	}
	if _, said := d.layer["secret"]; said || d.layer["user"].Text != "" || d.SecretFile != "" {
		return nil
	}
	i, err = d.choose(ctx, "To log in", "Which login",
		[]string{"a temporary login  that the cloud makes each time: nothing has to be stored",
			"a user and a password  of your own"})
	if err == nil && i == 0 {
		put("secret", "cloud")
	}
	return err
}
