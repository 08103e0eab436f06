package discover

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
)

// Process is a database server's program that runs on this machine, and not in a container.
type Process struct {
	PID     int
	Program string
	Account string // whose it is
}

// maxProcesses is how many processes are looked at, and maxTable how many bytes of a table of the
// system's.
const (
	maxProcesses = 1 << 16
	maxTable     = 4 << 20
)

// Running gives the servers of a family of engines that run here, as far as the system shows
// processes (proc(5)); none elsewhere. A process that a server started for a connection is none.
func Running(family string) []Process {
	var names []string
	for _, info := range known.Infos() {
		if info.Family == family {
			names = append(names, info.Processes...)
		}
	}
	return runningBelow("/proc", names)
}

// runningBelow is Running for a folder of processes.
func runningBelow(proc string, names []string) (list []Process) {
	entries, _ := os.ReadDir(proc)
	own := depth(proc, "self")
	for _, entry := range entries[:min(len(entries), maxProcesses)] {
		pid, err := strconv.Atoi(entry.Name())
		if err != nil || !slices.Contains(names, commOf(proc, pid)) || depth(proc, entry.Name()) != own {
			continue
		}
		status := statusOf(proc, entry.Name())
		if parent, _ := strconv.Atoi(first(status["PPid"])); parent != 0 && slices.Contains(names, commOf(proc, parent)) {
			continue
		}
		p := Process{PID: pid, Program: commOf(proc, pid), Account: first(status["Uid"])}
		if account, err := user.LookupId(p.Account); err == nil {
			p.Account = account.Username
		}
		list = append(list, p)
	}
	return list
}

func commOf(proc string, pid int) string {
	name, _ := os.ReadFile(filepath.Join(proc, strconv.Itoa(pid), "comm"))
	return strings.TrimSpace(string(name))
}

// statusOf reads a process's status: a name and its value on each line (proc(5)).
func statusOf(proc, pid string) map[string]string {
	data, _ := os.ReadFile(filepath.Join(proc, pid, "status"))
	all := map[string]string{}
	for line := range strings.Lines(string(data)) {
		if name, value, ok := strings.Cut(line, ":"); ok {
			all[name] = strings.TrimSpace(value)
		}
	}
	return all
}

func first(text string) string {
	word, _, _ := strings.Cut(text, "\t")
	return word
}

// depth is in how many namespaces of processes a process is: one of a container is in more than
// ours.
func depth(proc, pid string) int { return len(strings.Fields(statusOf(proc, pid)["NSpid"])) }

// socketPlace is a socket that may be a database's, and the engine that suggests so.
type socketPlace struct {
	path string
	info engine.Info
}

// listeningSockets gives the sockets on which this machine listens, wherever they are, that have
// a database server's usual name, or that a server's program holds, as far as the system shows
// that to this account.
func listeningSockets() []socketPlace { return listeningBelow("/proc") }

// listeningBelow is listeningSockets for a folder of processes.
func listeningBelow(proc string) (list []socketPlace) {
	file, err := os.Open(filepath.Join(proc, "net/unix"))
	if err != nil {
		return nil
	}
	defer file.Close()
	table := make([]byte, maxTable)
	n, _ := readAll(file, table)
	held := map[string]engine.Info{}
	for _, info := range known.Infos() {
		for _, each := range runningBelow(proc, info.Processes) {
			folder := filepath.Join(proc, strconv.Itoa(each.PID), "fd")
			entries, _ := os.ReadDir(folder)
			for _, entry := range entries[:min(len(entries), maxProcesses)] {
				if to, err := os.Readlink(filepath.Join(folder, entry.Name())); err == nil && strings.HasPrefix(to, "socket:[") {
					if _, has := held[to]; !has {
						held[to] = info
					}
				}
			}
		}
	}
	lines := bufio.NewScanner(bytes.NewReader(table[:n]))
	for lines.Scan() {
		// Num RefCount Protocol Flags Type St Inode Path; a path may have spaces.
		fields := strings.Fields(lines.Text())
		if len(fields) < 8 || fields[3] != "00010000" { // it accepts connections
			continue
		}
		_, path, _ := strings.Cut(lines.Text(), " "+fields[6]+" ")
		if !filepath.IsAbs(path) {
			continue
		}
		info, is := held[fmt.Sprintf("socket:[%s]", fields[6])]
		if !is {
			info, is = bySocketName(filepath.Base(path))
		}
		if is {
			list = append(list, socketPlace{path, info})
		}
	}
	return list
}

// readAll fills a buffer as far as a file goes.
func readAll(file *os.File, into []byte) (n int, err error) {
	for n < len(into) && err == nil {
		var more int
		more, err = file.Read(into[n:])
		n += more
	}
	return n, err
}

// bySocketName gives the engine whose sockets usually have a name.
func bySocketName(name string) (engine.Info, bool) {
	for _, info := range known.Infos() {
		for _, pattern := range info.Sockets {
			if is, _ := filepath.Match(filepath.Base(pattern), name); is && !strings.HasSuffix(name, ".lock") {
				return info, true
			}
		}
	}
	return engine.Info{}, false
}
