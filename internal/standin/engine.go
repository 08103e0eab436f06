package standin

import (
	"bufio"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Contained is a container of a practice engine.
type Contained struct {
	ID, Name, Image string
	State           string // "running" when empty
	ExitCode        int
	Health, Says    string // of the health check, "" for none
	Env             []string
	Labels          map[string]string
	Command         []string // what runs in it
	// Published has the ports of the host for each port inside, as ADDRESS:PORT.
	Published map[int][]string
	// Address and Gateway are of its network, "" for none; HostNetwork says that it has the host's.
	Address, Gateway string
	HostNetwork      bool
	Volume           string    // a named volume at Folder
	Folder           string    // inside
	VolumeMade       time.Time // when the volume was made
	Made, Ended      time.Time
	Log, Processes   []string
	// Streams are the addresses to which a stream to a port inside leads.
	Streams map[int]string
}

// EngineFaults are how a practice engine can misbehave.
type EngineFaults struct {
	Stall    bool   // answer nothing
	Version  string // of the API, "1.47" when empty
	Huge     bool   // answer a list without an end
	NotJSON  bool
	Redirect string // lead elsewhere
	Status   int    // answer everything with this status
	Words    string // and these words
	NoShell  bool   // no program can be run inside
	Body     string // answer each question with this JSON
	Frame    uint32 // the length that each line of a log claims, 0 for its own
}

// Engine is a practice container engine, which speaks the engine's API (the Docker Engine API,
// v1.47) on a Unix socket. It runs nothing: its containers are what it is told.
type Engine struct {
	server   *http.Server
	listener net.Listener

	mu         sync.Mutex
	containers map[string]Contained
	faults     EngineFaults
	execs      map[string]exec
	asked      []string
	streams    int
}

type exec struct {
	container string
	port      int
	exit      int
}

// StartEngine has an engine listen on a Unix socket. Close ends it.
func StartEngine(socket string) (*Engine, error) {
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return nil, err
	}
	e := &Engine{listener: listener, containers: map[string]Contained{}, execs: map[string]exec{}}
	e.server = &http.Server{Handler: e, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = e.server.Serve(listener) }()
	return e, nil
}

// Close ends the engine.
func (e *Engine) Close() { _ = e.server.Close() }

// Put makes a container, or puts another in its place.
func (e *Engine) Put(c Contained) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if c.ID == "" {
		c.ID = fmt.Sprintf("%064x", len(e.containers)+1+int(time.Now().UnixNano()&0xffff)<<16)
	}
	if c.State == "" {
		c.State = "running"
	}
	if c.Made.IsZero() {
		c.Made = time.Now().Add(-time.Hour)
	}
	e.containers[c.Name] = c
}

// Remove takes a container away.
func (e *Engine) Remove(name string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.containers, name)
}

// Misbehave sets the engine's faults.
func (e *Engine) Misbehave(f EngineFaults) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.faults = f
}

// Asked lists the requests that came, METHOD PATH.
func (e *Engine) Asked() []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Clone(e.asked)
}

// Streams gives how many streams are open now.
func (e *Engine) Streams() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.streams
}

// ServeHTTP answers a request of the API.
func (e *Engine) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	e.mu.Lock()
	faults := e.faults
	e.asked = append(e.asked, r.Method+" "+r.URL.Path)
	e.mu.Unlock()
	version := faults.Version
	if version == "" {
		version = "1.47"
	}
	w.Header().Set("Api-Version", version)
	w.Header().Set("Ostype", "linux")
	path := r.URL.Path
	if rest, versioned := strings.CutPrefix(path, "/v"); versioned {
		if _, after, ok := strings.Cut(rest, "/"); ok {
			path = "/" + after
		}
	}
	switch {
	case faults.Stall:
		<-r.Context().Done()
		return
	case faults.Redirect != "":
		http.Redirect(w, r, faults.Redirect, http.StatusTemporaryRedirect)
		return
	case path == "/_ping":
		_, _ = io.WriteString(w, "OK")
		return
	case faults.Status != 0:
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(faults.Status)
		_ = json.NewEncoder(w).Encode(map[string]string{"message": faults.Words})
		return
	case faults.NotJSON:
		_, _ = io.WriteString(w, "<html>")
		return
	case faults.Body != "":
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, faults.Body)
		return
	case faults.Huge:
		_, _ = io.WriteString(w, "[")
		for r.Context().Err() == nil {
			if _, err := io.WriteString(w, `{"Id":"`+strings.Repeat("a", 4096)+`"},`); err != nil {
				return
			}
		}
		return
	}
	parts := strings.Split(strings.TrimPrefix(path, "/"), "/")
	switch {
	case path == "/containers/json":
		e.list(w, r)
	case len(parts) == 3 && parts[0] == "containers" && parts[2] == "json":
		if c, ok := e.find(w, parts[1]); ok {
			answer(w, inspect(c))
		}
	case len(parts) == 3 && parts[0] == "containers" && parts[2] == "logs":
		if c, ok := e.find(w, parts[1]); ok {
			for _, line := range c.Log {
				data := frame(2, []byte(line+"\n"))
				if faults.Frame != 0 {
					binary.BigEndian.PutUint32(data[4:], faults.Frame)
				}
				_, _ = w.Write(data)
			}
		}
	case len(parts) == 3 && parts[0] == "containers" && parts[2] == "top":
		if c, ok := e.find(w, parts[1]); ok {
			rows := [][]string{}
			for _, each := range c.Processes {
				rows = append(rows, []string{"1", each})
			}
			answer(w, map[string]any{"Titles": []string{"PID", "CMD"}, "Processes": rows})
		}
	case len(parts) == 3 && parts[0] == "containers" && parts[2] == "archive":
		e.stat(w, r, parts[1])
	case len(parts) == 3 && parts[0] == "containers" && parts[2] == "exec":
		e.exec(w, r, parts[1])
	case len(parts) == 3 && parts[0] == "exec" && parts[2] == "start":
		_, _ = io.Copy(io.Discard, r.Body) // what follows it is the stream
		e.start(w, parts[1])
	case len(parts) == 3 && parts[0] == "exec" && parts[2] == "json":
		e.mu.Lock()
		defer e.mu.Unlock()
		answer(w, map[string]any{"ID": parts[1], "ExitCode": e.execs[parts[1]].exit})
	default:
		refuse(w, http.StatusNotFound, "page not found")
	}
}

func answer(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(value)
}

func refuse(w http.ResponseWriter, status int, words string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"message": words})
}

// frame is a part of an attached stream: 1 for output, 2 for error output.
func frame(kind byte, data []byte) []byte {
	head := []byte{kind, 0, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint32(head[4:], uint32(len(data)))
	return append(head, data...)
}

// find gives the container of a name, or of the beginning of an id.
func (e *Engine) find(w http.ResponseWriter, name string) (Contained, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if c, ok := e.containers[name]; ok {
		return c, true
	}
	var found []Contained
	for _, c := range e.containers {
		if strings.HasPrefix(c.ID, name) {
			found = append(found, c)
		}
	}
	switch len(found) {
	case 1:
		return found[0], true
	case 0:
		refuse(w, http.StatusNotFound, "No such container: "+name)
	default:
		refuse(w, http.StatusBadRequest, "multiple IDs found with provided prefix: "+name)
	}
	return Contained{}, false
}

func (e *Engine) list(w http.ResponseWriter, r *http.Request) {
	var filters map[string]map[string]bool
	_ = json.Unmarshal([]byte(r.URL.Query().Get("filters")), &filters)
	e.mu.Lock()
	all := slices.Collect(maps.Values(e.containers))
	e.mu.Unlock()
	list := []map[string]any{}
	for _, c := range all {
		fits := true
		for label := range filters["label"] {
			name, value, _ := strings.Cut(label, "=")
			fits = fits && c.Labels[name] == value
		}
		if !fits {
			continue
		}
		ports := []map[string]any{}
		for inside, published := range c.Published {
			for _, each := range published {
				host, port, _ := net.SplitHostPort(each)
				n, _ := strconv.Atoi(port)
				ports = append(ports, map[string]any{"IP": host, "PrivatePort": inside, "PublicPort": n, "Type": "tcp"})
			}
		}
		list = append(list, map[string]any{"Id": c.ID, "Names": []string{"/" + c.Name}, "Image": c.Image,
			"State": c.State, "Labels": c.Labels, "Ports": ports, "Created": c.Made.Unix()})
	}
	answer(w, list)
}

func inspect(c Contained) map[string]any {
	ports := map[string]any{}
	for inside, published := range c.Published {
		list := []map[string]string{}
		for _, each := range published {
			host, port, _ := net.SplitHostPort(each)
			list = append(list, map[string]string{"HostIp": host, "HostPort": port})
		}
		ports[fmt.Sprintf("%d/tcp", inside)] = list
	}
	networks := map[string]any{}
	if c.Address != "" {
		networks["bridge"] = map[string]any{"IPAddress": c.Address, "Gateway": c.Gateway}
	}
	state := map[string]any{"Status": c.State, "Running": c.State == "running", "ExitCode": c.ExitCode,
		"StartedAt": c.Made.UTC().Format(time.RFC3339Nano), "FinishedAt": "0001-01-01T00:00:00Z"}
	if !c.Ended.IsZero() {
		state["FinishedAt"] = c.Ended.UTC().Format(time.RFC3339Nano)
	}
	if c.Health != "" {
		state["Health"] = map[string]any{"Status": c.Health, "Log": []map[string]any{{"ExitCode": 1, "Output": c.Says}}}
	}
	mounts := []map[string]any{}
	if c.Volume != "" {
		mounts = append(mounts, map[string]any{"Type": "volume", "Name": c.Volume, "Destination": c.Folder})
	}
	mode := "bridge"
	if c.HostNetwork {
		mode = "host"
	}
	return map[string]any{
		"Id": c.ID, "Name": "/" + c.Name, "Created": c.Made.UTC().Format(time.RFC3339Nano), "State": state, "Mounts": mounts,
		"Config":          map[string]any{"Image": c.Image, "Env": c.Env, "Labels": c.Labels, "Cmd": c.Command},
		"HostConfig":      map[string]any{"NetworkMode": mode},
		"NetworkSettings": map[string]any{"Ports": ports, "Networks": networks},
	}
}

// stat answers for a file of the data folder, as old as the volume.
func (e *Engine) stat(w http.ResponseWriter, r *http.Request, name string) {
	c, ok := e.find(w, name)
	if !ok {
		return
	}
	if c.Volume == "" || c.VolumeMade.IsZero() || !strings.HasPrefix(r.URL.Query().Get("path"), c.Folder+"/") {
		refuse(w, http.StatusNotFound, "no such file")
		return
	}
	stat, _ := json.Marshal(map[string]any{"name": "first", "size": 3, "mode": 0o600,
		"mtime": c.VolumeMade.UTC().Format(time.RFC3339Nano)})
	w.Header().Set("X-Docker-Container-Path-Stat", base64.StdEncoding.EncodeToString(stat))
}

func (e *Engine) exec(w http.ResponseWriter, r *http.Request, name string) {
	c, ok := e.find(w, name)
	if !ok {
		return
	}
	var asked struct{ Cmd []string }
	_ = json.NewDecoder(r.Body).Decode(&asked)
	port, _ := strconv.Atoi(asked.Cmd[len(asked.Cmd)-1])
	e.mu.Lock()
	defer e.mu.Unlock()
	id := fmt.Sprintf("%064x", len(e.execs)+1)
	e.execs[id] = exec{container: c.Name, port: port}
	w.WriteHeader(http.StatusCreated)
	_ = json.NewEncoder(w).Encode(map[string]string{"Id": id})
}

// start joins a client to what a stream leads to, as the engine does with a program's input and
// output.
func (e *Engine) start(w http.ResponseWriter, id string) {
	e.mu.Lock()
	run := e.execs[id]
	to, none := e.containers[run.container].Streams[run.port], e.faults.NoShell
	e.streams++
	e.mu.Unlock()
	conn, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer conn.Close()
	_, _ = io.WriteString(conn, "HTTP/1.1 101 UPGRADED\r\nContent-Type: "+
		"application/vnd.docker.multiplexed-stream\r\nConnection: Upgrade\r\nUpgrade: tcp\r\n\r\n")
	exit := 0
	switch server, err := net.Dial("tcp", to); {
	case none:
		exit = 127
		_, _ = conn.Write(frame(2, []byte("sh: not found\n")))
	case err != nil:
		exit = 71
		_, _ = conn.Write(frame(2, []byte("bash: connect: Connection refused\n")))
	default:
		join(conn, buffered.Reader, server)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	run.exit = exit
	e.execs[id] = run
	e.streams--
}

func join(conn net.Conn, from *bufio.Reader, server net.Conn) {
	defer server.Close()
	_, _ = conn.Write(frame(2, []byte("open\n")))
	done := make(chan struct{})
	go func() {
		_, _ = io.Copy(struct{ io.Writer }{server}, from)
		_ = server.(*net.TCPConn).CloseWrite()
	}()
	go func() {
		defer close(done)
		data := make([]byte, 16<<10)
		for {
			n, err := server.Read(data)
			if n > 0 {
				if _, err := conn.Write(frame(1, data[:n])); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}()
	<-done
}
