package door

import (
	"net"
	"sync"
	"sync/atomic"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/target"
)

// call is a connection of this program's own to a door: it knows what the door met behind it.
type call struct {
	net.Conn
	once sync.Once
	done chan struct{}
	met  target.Reached
	err  error
	led  atomic.Pointer[engine.Led]
	gone func()
}

func (c *call) meet(met target.Reached, err error) {
	c.once.Do(func() { c.met, c.err = met, err; close(c.done) })
}

// Met gives what the door met at the server's end.
func (c *call) Met() target.Reached { return c.met }

// Close ends the connection.
func (c *call) Close() error {
	c.gone()
	return c.Conn.Close()
}
