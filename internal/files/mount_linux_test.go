package files

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestReadOnlyMount reads from mounts as a supervisor makes them: what is open to others' writes
// is admitted where nobody can write, and what belongs to another is not. The mounts are in a
// namespace of the test's own.
func TestReadOnlyMount(t *testing.T) {
	if os.Getenv("IN_A_NAMESPACE") == "" {
		cmd := exec.Command(os.Args[0], "-test.run=^TestReadOnlyMount$", "-test.v")
		cmd.Env = append(os.Environ(), "IN_A_NAMESPACE=1")
		cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS}
		out, err := cmd.CombinedOutput()
		if errors.Is(err, syscall.EPERM) || strings.Contains(string(out), "no mounts here") {
			t.Skip("no mount can be made here: it takes root")
		}
		if err != nil {
			t.Errorf("%v\n%s", err, out)
		}
		return
	}
	from, at := filepath.Join(t.TempDir(), "from"), filepath.Join(t.TempDir(), "at")
	// A mounted folder of secrets, as a cluster makes it: each name is a link into the folder of
	// the day.
	if err := errors.Join(os.MkdirAll(filepath.Join(from, "..2026"), 0o777), os.Mkdir(at, 0o755),
		os.WriteFile(filepath.Join(from, "..2026", "pw"), []byte("x"), 0o644),
		os.WriteFile(filepath.Join(from, "..2026", "theirs"), []byte("x"), 0o644),
		os.Lchown(filepath.Join(from, "..2026", "theirs"), stranger, -1),
		os.Symlink("..2026", filepath.Join(from, "..data")), os.Symlink("..data/pw", filepath.Join(from, "pw")),
		os.Symlink("..data/theirs", filepath.Join(from, "theirs")),
		os.Chmod(filepath.Join(from, "..2026"), 0o777), os.Chmod(from, 0o777)); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("", "/", "", syscall.MS_REC|syscall.MS_PRIVATE, ""); err != nil {
		t.Fatalf("no mounts here: %v", err)
	}
	if err := errors.Join(syscall.Mount(from, at, "", syscall.MS_BIND, ""),
		syscall.Mount("", at, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, "")); err != nil {
		t.Fatalf("no mounts here: %v", err)
	}
	defer func() { _ = syscall.Unmount(at, 0) }()
	var open *OpenError
	if data, err := ReadOwn(filepath.Join(at, "pw"), 10); err != nil || string(data) != "x" || !ReadOnly(at) {
		t.Errorf("mounted for reading: %q, %v", data, err)
	}
	if _, err := ReadOwn(filepath.Join(from, "pw"), 10); !errors.As(err, &open) {
		t.Errorf("the folder that is mounted, which all can write to: %v", err)
	}
	if _, err := ReadOwn(filepath.Join(at, "theirs"), 10); !errors.As(err, &open) || open.Mode {
		t.Errorf("another's, who could change it through another mount: %v", err)
	}
}
