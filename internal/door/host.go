package door

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/target"
)

// Record is what is told of a door. Those of a process whose state is "gone" were left behind by one that was killed.
type Record struct {
	Profile     string        `json:"profile"`
	Host        string        `json:"host,omitempty"`
	Port        int           `json:"port,omitempty"`
	Socket      string        `json:"socket,omitempty"`
	State       State         `json:"state"`
	Why         string        `json:"why,omitempty"` // what keeps it from being open
	Since       time.Time     `json:"since"`
	PID         int           `json:"pid"`
	Connections int           `json:"connections"`
	Target      target.Target `json:"target"`
}

// Gone is the state of a door whose process was killed.
const Gone State = "gone"

// Bounds of what is read from records and control sockets.
const (
	maxRecord = 1 << 20
	maxHosts  = 1000
	askTime   = 2 * time.Second
)

// Host is a process with doors: others of the same account ask it how they are, and to end one, over its control socket in a folder.
type Host struct {
	folder   string
	name     string
	listener net.Listener
	doors    func() []Record
	release  func(profile string)
	done     sync.WaitGroup
}

// NewHost opens the control socket of this process in a folder of the state's. Doors gives the doors as they are, and release ends the one
// of a profile, "" for all.
func NewHost(ctx context.Context, folder string, doors func() []Record, release func(profile string)) (*Host, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if err := files.Closed(folder); err != nil {
		return nil, err
	}
	h := &Host{folder: folder, name: fmt.Sprintf("%d-%x", os.Getpid(), time.Now().UnixNano()&0xffffff), doors: doors, release: release}
	// It gets its name when it listens: one that does not answer is taken for that of a process that is gone.
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: h.path(".new"), Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("the control socket cannot be opened: %w", err)
	}
	listener.SetUnlinkOnClose(false)
	h.listener = listener
	err = os.Chmod(h.path(".new"), 0o600)
	if err == nil {
		err = os.Rename(h.path(".new"), h.path(".ask"))
	}
	if err != nil {
		_ = listener.Close()
		_ = os.Remove(h.path(".new"))
		return nil, err
	}
	h.done.Add(1)
	go h.serve()
	return h, h.Note()
}

func (h *Host) path(ending string) string { return filepath.Join(h.folder, h.name+ending) }

// Note writes down which doors there are, for when this process is killed.
func (h *Host) Note() error {
	data, err := json.Marshal(h.doors())
	if err != nil {
		return err
	}
	return files.Write(h.path(".json"), data, 0o600)
}

// question is what is asked over the control socket, a line of JSON.
type question struct {
	Ask     string `json:"ask"` // "doors" or "release"
	Profile string `json:"profile,omitempty"`
}

func (h *Host) serve() {
	defer h.done.Done()
	for {
		conn, err := h.listener.Accept()
		if err != nil {
			return
		}
		go h.answer(conn)
	}
}

func (h *Host) answer(conn net.Conn) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(askTime))
	var q question
	if json.NewDecoder(io.LimitReader(conn, 4096)).Decode(&q) != nil {
		return
	}
	_ = json.NewEncoder(conn).Encode(h.doors())
	if q.Ask == "release" {
		h.release(q.Profile)
	}
}

// Close takes the control socket and the record away.
func (h *Host) Close() {
	_ = h.listener.Close()
	_ = os.Remove(h.path(".ask"))
	_ = os.Remove(h.path(".json"))
	h.done.Wait()
}

// List asks every process with doors how they are. Records of processes that were killed are given once more, as gone, and taken away.
func List(ctx context.Context, folder string) ([]Record, error) {
	var list []Record
	err := each(folder, func(name string) {
		found, err := ask(ctx, filepath.Join(folder, name+".ask"), question{Ask: "doors"})
		if err == nil {
			list = append(list, found...)
			return
		}
		if !errors.Is(err, errNobody) {
			return
		}
		left := read(filepath.Join(folder, name+".json"))
		for i := range left {
			left[i].State, left[i].Why, left[i].Connections = Gone, "its process was killed", 0
		}
		list = append(list, left...)
		clear(folder, name)
	})
	slices.SortStableFunc(list, func(a, b Record) int { return strings.Compare(a.Profile, b.Profile) })
	return list, err
}

// Release asks the process that has a profile's doors to end them, "" for every door, and gives how many it ended.
func Release(ctx context.Context, folder, profile string) (ended int, err error) {
	err = each(folder, func(name string) {
		path := filepath.Join(folder, name+".ask")
		found, e := ask(ctx, path, question{Ask: "doors"})
		if errors.Is(e, errNobody) {
			clear(folder, name)
		}
		for _, record := range found {
			if profile == "" || record.Profile == profile {
				ended++
				_, _ = ask(ctx, path, question{"release", record.Profile})
			}
		}
	})
	return ended, err
}

// each calls visit with the name of each process that has, or had, doors.
func each(folder string, visit func(name string)) error {
	if err := files.Closed(folder); err != nil {
		return err
	}
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	seen := map[string]bool{}
	for _, entry := range entries {
		name, ok := strings.CutSuffix(entry.Name(), ".ask")
		if !ok {
			name, ok = strings.CutSuffix(entry.Name(), ".json")
		}
		if ok && !seen[name] && len(seen) < maxHosts {
			seen[name] = true
			visit(name)
		}
	}
	return err
}

// errNobody says that no process is behind a control socket.
var errNobody = errors.New("its process is gone")

func ask(ctx context.Context, path string, q question) ([]Record, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, "unix", path)
	if err != nil {
		if ctx.Err() == nil {
			return nil, errNobody
		}
		return nil, err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(askTime))
	if err := json.NewEncoder(conn).Encode(q); err != nil {
		return nil, err
	}
	var list []Record
	return list, json.NewDecoder(io.LimitReader(conn, maxRecord)).Decode(&list)
}

func read(path string) []Record {
	data, err := files.ReadOwn(path, maxRecord)
	var list []Record
	if err != nil || json.Unmarshal(data, &list) != nil {
		return nil
	}
	return list
}

func clear(folder, name string) {
	_ = os.Remove(filepath.Join(folder, name+".ask"))
	_ = os.Remove(filepath.Join(folder, name+".json"))
}
