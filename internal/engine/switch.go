package engine

import "context"

// Switcher is a session that can open another database without another connection.
type Switcher interface {
	// Switch opens it.
	Switch(ctx context.Context, database string) error
}

// Switch implements Switcher, where the engine does.
func (g guardedSession) Switch(ctx context.Context, database string) error {
	switcher, can := As[Switcher](g.inner)
	if !can {
		return Cannot("open another database")
	}
	return g.question(func() error { return switcher.Switch(ctx, database) })
}
