// Package known is the list of the engines that there are. A new one adds its line here.
package known

import (
	"slices"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/mongodb"
	"gentle-harbor/internal/engine/mysql"
	"gentle-harbor/internal/engine/oracle"
	"gentle-harbor/internal/engine/postgres"
)

var kinds = sync.OnceValue(func() []kind {
	var list []kind
	for _, e := range []engine.Engine{postgres.Engine{}, mysql.Engine{}, mysql.Engine{MariaDB: true},
		oracle.Engine{}, mongodb.Engine{}} {
		list = append(list, kind{e.Info(), engine.Guarded(e)})
	}
	return list
})

type kind struct {
	info   engine.Info
	engine engine.Engine
}

// Info gives what is known of the kind of a name as profiles write it.
func Info(name string) (engine.Info, bool) {
	i := slices.IndexFunc(kinds(), func(k kind) bool { return k.info.Name == name })
	if i < 0 {
		return engine.Info{}, false
	}
	return kinds()[i].info, true
}

// Engine gives the engine of a name, guarded; nil for an unknown one.
func Engine(name string) engine.Engine {
	for _, k := range kinds() {
		if k.info.Name == name {
			return k.engine
		}
	}
	return nil
}

// Names lists the engines' names.
func Names() []string {
	var names []string
	for _, k := range kinds() {
		names = append(names, k.info.Name)
	}
	return names
}

// Infos lists what is known of each engine.
func Infos() []engine.Info {
	var infos []engine.Info
	for _, k := range kinds() {
		infos = append(infos, k.info)
	}
	return infos
}

// Identify names the service whose first bytes are given: an engine's server, or another that is
// known. Its Kind is "" when it is neither.
func Identify(first []byte) engine.Answer {
	for _, k := range kinds() {
		if a, ok := k.engine.Identify(first); ok {
			return a
		}
	}
	a, _ := engine.Other(first)
	return a
}

// Database reports whether an answer is that of a server which profiles can reach.
func Database(a engine.Answer) bool { _, known := Info(a.Kind); return known }
