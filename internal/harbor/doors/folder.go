package doors

import (
	"context"
	"net"
	"path/filepath"
	"strconv"

	"gentle-harbor/internal/door"
	"gentle-harbor/internal/harbor/world"
)

// Folder is where the processes with doors can be asked.
func Folder(w *world.World) (string, error) {
	state, err := w.State()
	return filepath.Join(state, "doors"), err
}

func placeOfDoor(h door.Record) string {
	if h.Socket != "" {
		return h.Socket
	}
	return net.JoinHostPort(h.Host, strconv.Itoa(h.Port))
}

// Opened lists the doors of this account's processes.
func Opened(ctx context.Context, w *world.World) ([]door.Record, error) {
	folder, err := Folder(w)
	if err != nil {
		return nil, err
	}
	list, err := door.List(ctx, folder)
	if err != nil {
		return nil, world.Doing("list the doors", err)
	}
	return list, nil
}

// Release ends the door of a profile, "" for every one, and gives how many it ended.
func Release(ctx context.Context, w *world.World, name string) (int, error) {
	folder, err := Folder(w)
	if err != nil {
		return 0, err
	}
	n, err := door.Release(ctx, folder, name)
	if err != nil {
		return n, world.Doing("close a door", err)
	}
	return n, nil
}
