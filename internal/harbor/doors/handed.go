package doors

import (
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// doorVariables are the ends of the variables that say where a door is: those of the first door
// begin with GHARBOR_DOOR_, of others with GHARBOR_DOOR_ and their number.
var doorVariables = []string{"host", "port", "user", "database"}

// IsVariable reports whether a variable is one that a program gets for a door. Where this program
// is run with doors, it has no meaning here, and is nothing to be warned of.
func IsVariable(name string) bool {
	rest, ok := strings.CutPrefix(name, "GHARBOR_DOOR_")
	if number, after, two := strings.Cut(rest, "_"); two && number != "" && strings.Trim(number, "0123456789") == "" {
		rest = after
	}
	return ok && slices.Contains(doorVariables, strings.ToLower(rest)) && rest == strings.ToUpper(rest)
}

// Handed gives the variables that a program gets for doors: those of the first without a number,
// those of others with one, and what each profile hands over.
func (d *Doors) Handed() []string {
	var list []string
	set := func(name, value string) { list = append(list, name+"="+value) }
	for i, h := range d.List {
		prefix := "GHARBOR_DOOR_"
		if i > 0 {
			prefix += strconv.Itoa(i+1) + "_"
		}
		values := h.Values()
		for _, name := range doorVariables {
			set(prefix+strings.ToUpper(name), values[name])
		}
		if i == 0 {
			set("DATABASE_URL", values["uri"])
		}
		for _, name := range h.Profile.Values.Names() {
			if variable, ok := strings.CutPrefix(name, "hand-over."); ok {
				set(variable, values[h.Profile.Values[name].Text])
			}
		}
	}
	return list
}

// fillable are the characters that a value may have which is put into an argument.
const fillable = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._:/@%+-"

// Fill puts the values of the first door into arguments that are one of {host}, {port}, {user}
// and {database}, or end in one behind an equals sign. A secret is never one of them.
func (d *Doors) Fill(args []string) ([]string, error) {
	values := d.List[0].Values()
	filled := slices.Clone(args)
	for i, arg := range args {
		for _, name := range doorVariables {
			place := "{" + name + "}"
			if arg != place && !strings.HasSuffix(arg, "="+place) {
				continue
			}
			if strings.Trim(values[name], fillable) != "" || values[name] == "" {
				return nil, world.Wrong("the %s %q cannot be put into an argument safely; the program can read "+
					"it from GHARBOR_DOOR_%s",
					name, outside.Text(values[name]), strings.ToUpper(name))
			}
			filled[i] = strings.TrimSuffix(arg, place) + values[name]
		}
	}
	return filled, nil
}

// Environment gives the environment of a program that runs with doors: this one without what
// overrides settings here, and with what is handed over.
func (d *Doors) Environment(environ []string) []string {
	var list []string
	for _, pair := range environ {
		name, _, _ := strings.Cut(pair, "=")
		if !slices.ContainsFunc(profile.Settings, func(s profile.Setting) bool {
			return s.Variable() == name && name != ""
		}) {
			list = append(list, pair)
		}
	}
	return append(list, d.Handed()...)
}
