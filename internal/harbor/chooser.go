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

// choose has a person choose one of several lines by its number; Enter alone takes the first. It gives the line's place in the list.
func (d *draft) choose(ctx context.Context, heading, question string, lines []string) (int, error) {
	if len(lines) == 1 {
		d.Who.Say(heading + ": " + lines[0])
		return 0, nil
	}
	d.Who.Say(heading + ":")
	for i, line := range lines {
		d.Who.Say(fmt.Sprintf("  %d  %s", i+1, line))
	}
	for {
		answer, err := d.Who.Ask(ctx, fmt.Sprintf("%s (1 to %d) [1] ", question, len(lines)))
		if err != nil || answer == "" {
			return 0, err
		}
		n, bad := strconv.Atoi(answer)
		if bad != nil { // a name is as good
			n = slices.IndexFunc(lines, func(line string) bool { name, _, _ := strings.Cut(line, "  "); return name == answer }) + 1
		}
		if n >= 1 && n <= len(lines) {
			return n - 1, nil
		}
		d.Who.Say("  Type a number of the list, or Enter alone for the first.")
	}
}

// chooseCloud has a person choose account, server, copy and database from lists of what the clouds have.
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
		lines = append(lines, outside.Cell(strings.Join([]string{s.Name, strings.TrimSpace(s.Engine + " " + s.Version), string(s.State), s.Region}, "  ")))
	}
	if i, err = d.choose(ctx, "Servers of "+c.Account.Name, "Which one", lines); err != nil {
		return err
	}
	s := list[i]
	chosen := target.Clouded{Account: c.Account.Name, Server: clouds.NameOrID(s, list)}
	if len(s.Copies) > 0 {
		lines = []string{s.Name + "  the server itself, which takes changes"}
		for _, each := range s.Copies {
			lines = append(lines, outside.Cell(each.Name+"  a copy to read from, "+string(each.State)+" "+each.Region))
		}
		if i, err = d.choose(ctx, "The server and its copies", "Which one", lines); err != nil {
			return err
		}
		if i > 0 {
			chosen.Copy = s.Copies[i-1].Name
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
	i, err = d.choose(ctx, "To log in", "Which way", []string{"a temporary login  that the cloud makes each time: nothing has to be kept", "a user and a password  of your own"})
	if err == nil && i == 0 {
		put("secret", "cloud")
	}
	return err
}
