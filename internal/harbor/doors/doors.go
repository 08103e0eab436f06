// Package doors opens doors to profiles' servers and keeps them open: addresses on this machine,
// each with a route behind it that is opened anew when it breaks. An [Opening] opens them,
// [Doors] are those of this process, and others of this account can be asked.
package doors

import (
	"sync"
	"time"

	"gentle-harbor/internal/door"
)

// Doors are the doors that this process holds open.
type Doors struct {
	List []*Held
	host *door.Host
	mu   sync.Mutex
	// Released is told when another process asks for the end of the last door.
	released chan struct{}
}

// Records gives what is told of each door.
func (d *Doors) Records() []door.Record {
	d.mu.Lock()
	defer d.mu.Unlock()
	var list []door.Record
	for _, h := range d.List {
		if !h.closed && h.Borrowed == 0 {
			list = append(list, h.Record())
		}
	}
	return list
}

// release ends the door of a profile, when another process asks for it.
func (d *Doors) release(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	left := 0
	for _, h := range d.List {
		if h.Profile.Name == name {
			h.close(0)
		}
		if !h.closed {
			left++
		}
	}
	if left == 0 {
		select {
		case <-d.released:
		default:
			close(d.released)
		}
	}
}

// Released is closed when all doors were ended by others.
func (d *Doors) Released() <-chan struct{} { return d.released }

// Close ends all doors, after giving their connections a moment to end.
func (d *Doors) Close(drain time.Duration) {
	d.mu.Lock()
	var all sync.WaitGroup
	for _, h := range d.List {
		all.Go(func() { h.close(drain) })
	}
	all.Wait()
	d.mu.Unlock()
	if d.host != nil {
		d.host.Close()
	}
}
