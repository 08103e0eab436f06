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

	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/target"
)

// Record is what is told of a door. Those of a process whose state is "gone" were left behind by
// one that was killed.
type Record struct {
	Profile     string        `json:"profile"`
	Host        string        `json:"host,omitempty"`
	Port        int           `json:"port,omitempty"`
	Socket      string        `json:"socket,omitempty"`
	State       State         `json:"state"`
	Changed     time.Time     `json:"state_since"`
	Code        string        `json:"code,omitempty"` // of the finding that keeps it from being open
	Why         string        `json:"why,omitempty"`  // the same in a sentence
	Next        string        `json:"next,omitempty"` // what to do about it
	Since       time.Time     `json:"since"`
	PID         int           `json:"pid"`
	Connections int           `json:"connections"`
	Target      target.Target `json:"target"`
	// Passing says that the door passes bytes, and clients encrypt by themselves.
	Passing bool `json:"pass_through"`
	// Settings is a digest of the settings that the door was opened with.
	Settings string `json:"settings,omitempty"`
}

// States that others see: Gone is that of a door whose process was killed, and Silent of one
// whose process does not answer.
const (
	Gone   State = "gone"
	Silent State = "silent"
)

// Bounds of what is read from records and control sockets.
const (
	maxRecord = 1 << 20
	maxHosts  = 1000
	askTime   = 2 * time.Second
	endTime   = 10 * time.Second // for a door to end
)

// Host is a process with doors: others of the same account ask it how they are, and to end one,
// over its control socket in a folder.
type Host struct {
	folder   string
	name     string
	listener net.Listener
	doors    func() []Record
	release  func(profile string)
	done     sync.WaitGroup
}

// NewHost opens the control socket of this process in a folder of the state's. Doors gives the
// doors as they are, and release ends the one of a profile, "" for all.
func NewHost(ctx context.Context, folder string, doors func() []Record, release func(profile string)) (*Host, error) {
	if err := files.Settle(folder); err != nil {
		return nil, err
	}
	if err := files.Closed(folder); err != nil {
		return nil, err
	}
	h := &Host{folder: folder, name: fmt.Sprintf("%d-%x", os.Getpid(), time.Now().UnixNano()&0xffffff),
		doors: doors, release: release}
	// It gets its name when it listens: one that does not answer is taken for that of a process
	// that is gone.
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
		h.done.Add(1)
		go func() { defer h.done.Done(); h.answer(conn) }()
	}
}

func (h *Host) answer(conn net.Conn) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(askTime))
	var q question
	if json.NewDecoder(io.LimitReader(conn, 4096)).Decode(&q) != nil {
		return
	}
	if q.Ask == "release" { // the answer says that it is done
		_ = conn.SetDeadline(time.Now().Add(endTime))
		h.release(q.Profile)
	}
	_ = json.NewEncoder(conn).Encode(h.doors())
}

// Close takes the control socket and the record away.
func (h *Host) Close() {
	_ = h.listener.Close()
	_ = os.Remove(h.path(".ask"))
	_ = os.Remove(h.path(".json"))
	h.done.Wait()
}

// List asks every process with doors how they are. Records of processes that were killed are
// given once more, as gone, and taken away.
func List(ctx context.Context, folder string) ([]Record, error) {
	var list []Record
	err := each(folder, func(name string) {
		found, err := ask(ctx, filepath.Join(folder, name+".ask"), question{Ask: "doors"})
		if err == nil {
			list = append(list, found...)
			return
		}
		left := read(filepath.Join(folder, name+".json"))
		for i := range left {
			left[i].State, left[i].Why, left[i].Connections = Gone, "its process was killed", 0
			if !errors.Is(err, errNobody) { // it may be alive: nothing of it is taken away
				left[i].State, left[i].Why = Silent, "its process does not answer: "+err.Error()
			}
		}
		list = append(list, left...)
		if errors.Is(err, errNobody) {
			clear(folder, name)
		}
	})
	slices.SortStableFunc(list, func(a, b Record) int { return strings.Compare(a.Profile, b.Profile) })
	return list, err
}

// Release asks the process that has a profile's doors to end them, "" for every door, and gives
// how many have ended.
func Release(ctx context.Context, folder, profile string) (ended int, err error) {
	var failed []error
	err = each(folder, func(name string) {
		path := filepath.Join(folder, name+".ask")
		found, e := ask(ctx, path, question{Ask: "doors"})
		switch {
		case errors.Is(e, errNobody):
			clear(folder, name)
		case e != nil:
			failed = append(failed, fmt.Errorf("a process with doors does not answer (%s): %w", name, e))
		}
		for _, record := range found {
			if profile == "" || record.Profile == profile {
				if _, e := ask(ctx, path, question{"release", record.Profile}); e != nil {
					failed = append(failed,
						fmt.Errorf("the door of %s, in process %d, was not closed: %w", record.Profile, record.PID, e))
					continue
				}
				ended++
			}
		}
	})
	return ended, errors.Join(append(failed, err)...)
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
	limit := askTime
	if q.Ask == "release" {
		limit = endTime
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, "unix", path)
	if err != nil {
		if errno.Is(err, errno.Refused) || errors.Is(err, fs.ErrNotExist) {
			return nil, errNobody
		}
		return nil, err
	}
	defer conn.Close()
	if end, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(end)
	}
	if err := json.NewEncoder(conn).Encode(q); err != nil {
		return nil, err
	}
	var list []Record
	return list, json.NewDecoder(budget.JSON(io.LimitReader(conn, maxRecord), budget.Kept)).Decode(&list)
}

func read(path string) []Record {
	data, err := files.ReadOwn(path, maxRecord)
	var list []Record
	if err != nil || budget.Unmarshal(data, &list) != nil {
		return nil
	}
	return list
}

func clear(folder, name string) {
	_ = os.Remove(filepath.Join(folder, name+".ask"))
	_ = os.Remove(filepath.Join(folder, name+".json"))
}
