package engine

import "context"

// Switcher is a session that can open another database without another connection.
type Switcher interface {
	// Switch opens it.
	Switch(ctx context.Context, database string) error
}

// Dropper is a session whose connection can be ended from another goroutine.
type Dropper interface {
	// Drop ends it, without a word to the server.
	Drop()
}

// Drop implements Dropper for every engine.
func (g guardedSession) Drop() { g.budget.end() }

// Switch implements Switcher, where the engine does.
func (g guardedSession) Switch(ctx context.Context, database string) error {
	switcher, can := As[Switcher](g.inner)
	if !can {
		return Cannot("open another database")
	}
	return g.question(func() error { return switcher.Switch(ctx, database) })
}
