package realtest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// Engine is a real container engine, on a socket of the test's own.
type Engine struct {
	*testing.T
	Name, Socket string
	More         []string // what each container needs here
}

var (
	imagesMu   sync.Mutex
	imageFiles = map[string]string{}
)

// image makes an image's file once: a real server that does at its first start what the well-known
// image does.
func image(t *testing.T, kind, script, folder string) string {
	t.Helper()
	imagesMu.Lock()
	defer imagesMu.Unlock()
	if imageFiles[kind] == "" {
		file := filepath.Join(folder, kind+".tar")
		if out, err := exec.Command(script, kind, file).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		imageFiles[kind] = file
	}
	return imageFiles[kind]
}

// StartEngine starts docker or podman, with the images postgres:test and mariadb:test in it, which a
// script makes as files in a folder. It ends with the test.
func StartEngine(t *testing.T, name, script, images string) *Engine {
	t.Helper()
	if os.Getuid() != 0 {
		Missing(t, "root, for a container engine")
	}
	folder, err := os.MkdirTemp("", "ghe")
	must(t, err)
	// In memory, where that is possible: a data folder for each server is too much for a slow disk.
	inMemory := exec.Command("mount", "-t", "tmpfs", "-o", "size=4g", "tmpfs", folder).Run() == nil
	e := &Engine{T: t, Name: name, Socket: filepath.Join(folder, "e.sock")}
	var cmd *exec.Cmd
	switch name {
	case "docker":
		if Program("dockerd", "/usr/sbin") == "" || Program("docker") == "" {
			Missing(t, "a container engine (docker.io)")
		}
		cmd = exec.Command("dockerd", "--data-root", folder+"/data", "--exec-root", folder+"/exec",
			"--pidfile", folder+"/pid", "-H", "unix://"+e.Socket)
	case "podman":
		if Program("podman") == "" || Program("runc", "/usr/sbin") == "" || Program("docker") == "" {
			Missing(t, "a container engine (podman with runc)")
		}
		cmd = exec.Command("podman", "--root", folder+"/root", "--runroot", folder+"/run",
			"--tmpdir", folder+"/tmp", "--runtime", "runc", "--storage-driver", "overlay", "system", "service",
			"-t", "0", "unix://"+e.Socket)
		e.More = []string{"--ulimit", "nofile=1000:1000", "--ulimit", "nproc=2000:2000"}
	}
	Launch(t, cmd, folder+"/log")
	t.Cleanup(func() {
		if all := strings.Fields(e.Try("ps", "-aq")); len(all) > 0 {
			e.Try(append([]string{"rm", "-f"}, all...)...)
		}
		_ = cmd.Process.Signal(os.Interrupt)
		for range 100 {
			if e.Try("version") == "" {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		_ = exec.Command("sh", "-c", "grep "+folder+" /proc/mounts | cut -d' ' -f2 | sort -r | xargs -r umount -l").Run()
		if inMemory {
			_ = exec.Command("umount", "-l", folder).Run()
		}
		_ = os.RemoveAll(folder)
	})
	Until(t, name, folder+"/log", func() bool { return strings.Contains(e.Try("version"), "Server") })
	for _, kind := range []string{"postgres", "mariadb"} {
		e.Do("import", "-c", `ENTRYPOINT ["/entry"]`, image(t, kind, script, images), kind+":test")
	}
	return e
}

// Try asks the engine by its own program, and gives what it prints, "" when it fails.
func (e *Engine) Try(args ...string) string {
	out, err := exec.Command("docker", append([]string{"-H", "unix://" + e.Socket}, args...)...).CombinedOutput()
	if err != nil {
		return ""
	}
	return string(out)
}

// Do asks the engine as Try does; what fails ends the test.
func (e *Engine) Do(args ...string) string {
	e.Helper()
	out, err := exec.Command("docker", append([]string{"-H", "unix://" + e.Socket}, args...)...).CombinedOutput()
	if err != nil {
		e.Fatalf("%s %v: %v\n%s", e.Name, args, err, out)
	}
	return string(out)
}
