package container

import (
	"maps"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

// Account is what the variables of a container, or of a Compose service, say of its server. They
// are what the server was set up with; what it holds today may be otherwise.
type Account struct {
	User, Database string
	// Password is what the variable From holds. It is not given where there is none: see Asks and Why.
	Password secret.Secret
	From     string
	// File is a file inside the container that holds the password, where From ends in _FILE.
	File string
	// Why says in words why no password is known: "random", "empty" or "trust"; "" where one is,
	// or nothing is said.
	Why string
	// Set is the statement that sets the account's password.
	Set string
}

// EngineOf gives the database engine whose well-known image a repository is, by its last part;
// false for none.
func EngineOf(repository string) (engine.Info, bool) {
	last := repository[strings.LastIndexByte(repository, '/')+1:]
	for _, info := range known.Infos() {
		if slices.Contains(info.Image.Repositories, last) {
			return info, true
		}
	}
	return engine.Info{}, false
}

// EngineFor gives the database engine that an image serves: by its well-known name, else by the
// variables of one of someone's own, as named says; false for none.
func EngineFor(repository string, variables map[string]string) (info engine.Info, named, known bool) {
	if info, known = EngineOf(repository); known {
		return info, true, true
	}
	info, known = EngineByVariables(variables)
	return info, false, known
}

// EngineByVariables gives the database engine whose image's variables are set, for an image of
// someone's own; false for none. A program that uses a database often has the same variables, and
// says beside them which host has it: that is no server.
func EngineByVariables(variables map[string]string) (engine.Info, bool) {
	for _, info := range known.Infos() {
		elsewhere := func(name string) bool {
			return strings.HasSuffix(name, "HOST") && variables[name] != "" && !slices.Contains(info.Image.Hosts, name)
		}
		if slices.ContainsFunc(slices.Collect(maps.Keys(variables)), elsewhere) {
			continue
		}
		var names []string
		for _, account := range info.Image.Accounts {
			names = append(append(names, account.Passwords...), account.Random...)
		}
		for _, pair := range info.Image.Trusting {
			name, _, _ := strings.Cut(pair, "=")
			names = append(names, name)
		}
		if slices.ContainsFunc(names, func(name string) bool { return variables[name]+variables[name+"_FILE"] != "" }) {
			return info, true
		}
	}
	return engine.Info{}, false
}

// AccountsOf gives the accounts that variables make for an image's server, the one to use first.
func AccountsOf(image engine.Image, variables map[string]string) []Account {
	first := func(names []string) (name, value string, file bool) {
		for _, name := range names {
			if value, set := variables[name]; set && value != "" {
				return name, value, false
			}
			if value := variables[name+"_FILE"]; value != "" {
				return name + "_FILE", value, true
			}
		}
		return "", "", false
	}
	var list []Account
	for _, each := range image.Accounts {
		a := Account{User: each.Usual, Set: each.Password}
		if _, user, file := first(each.Users); file {
			continue // nobody here knows who it is
		} else if user != "" {
			a.User = user
		}
		if a.User == "" {
			continue
		}
		name, value, file := first(each.Passwords)
		empty, _, _ := first(each.Empty)
		random, _, _ := first(each.Random)
		switch {
		case name != "" && file:
			a.From, a.File = name, value
		case name != "":
			a.From, a.Password = name, secret.New(value)
		case slices.ContainsFunc(image.Trusting, func(pair string) bool {
			name, value, _ := strings.Cut(pair, "=")
			return variables[name] == value
		}):
			a.Why = "trust"
		case random != "":
			a.Why, a.From = "random", random
		case empty != "":
			a.Why, a.From, a.Password = "empty", empty, secret.New("")
		}
		if _, database, file := first(image.Databases); !file {
			a.Database = database
		}
		if a.Database == "" && image.UserNames {
			a.Database = a.User
		}
		if a.Database == "" {
			a.Database = image.Usual
		}
		list = append(list, a)
	}
	return list
}

// Variables gives the container's environment.
func (c *Container) Variables() map[string]string {
	all := make(map[string]string, len(c.env))
	for _, pair := range c.env {
		name, value, _ := strings.Cut(pair, "=")
		all[name] = value
	}
	return all
}

// Accounts gives what the container's variables say of its server, none for an image that is not
// known.
func (c *Container) Accounts() []Account {
	info, known := EngineOf(c.Repository)
	if !known {
		return nil
	}
	return AccountsOf(info.Image, c.Variables())
}

// secretWords are in the names of variables whose values are nobody's to see.
var secretWords = []string{"PASS", "SECRET", "TOKEN", "KEY", "CREDENTIAL", "AUTH"}

// Hidden gives the values of the container's variables that must not be seen, for the masking of
// its log.
func (c *Container) Hidden() []outside.Hidden { return HiddenOf(c.Variables()) }

// HiddenOf gives the values of variables that must not be seen, by their names, and the passwords
// in those that are connection strings.
func HiddenOf(variables map[string]string) []outside.Hidden {
	var list []outside.Hidden
	for name, value := range variables {
		upper := strings.ToUpper(name)
		if value != "" && slices.ContainsFunc(secretWords, func(word string) bool { return strings.Contains(upper, word) }) {
			list = append(list, secret.New(value))
		}
		if _, rest, url := strings.Cut(value, "://"); url {
			if user, _, at := strings.Cut(rest, "@"); at {
				if _, password, has := strings.Cut(user, ":"); has && password != "" {
					list = append(list, secret.New(password))
				}
			}
		}
	}
	return list
}
