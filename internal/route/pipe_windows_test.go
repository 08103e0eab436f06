package route

import (
	"context"
	"io"
	"testing"
	"time"

	"golang.org/x/sys/windows"
)

// TestDialPipe goes to a pipe, to one that nobody has, and to what is none. It runs on Windows
// alone.
func TestDialPipe(t *testing.T) {
	const place = `\\.\pipe\gharbor-test`
	for _, written := range []string{place, "//./pipe/gharbor-test"} {
		name, err := windows.UTF16PtrFromString(place)
		must(t, err)
		pipe, err := windows.CreateNamedPipe(name, windows.PIPE_ACCESS_DUPLEX, windows.PIPE_TYPE_BYTE, 1, 64, 64, 0, nil)
		must(t, err)
		go func() {
			_ = windows.ConnectNamedPipe(pipe, nil)
			_, _ = windows.Write(pipe, []byte("here"))
		}()
		conn, is, err := DialPipe(t.Context(), written)
		if err != nil || !is {
			t.Fatalf("%s: %t %v", written, is, err)
		}
		said := make([]byte, 4)
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.ReadFull(conn, said); string(said) != "here" {
			t.Errorf("%s: %q %v", written, said, err)
		}
		_ = conn.Close()
		_ = windows.CloseHandle(pipe)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	if _, is, err := DialPipe(ctx, `\\.\pipe\gharbor-nobody`); !is || err == nil {
		t.Errorf("nobody: %t %v", is, err)
	}
	if _, is, _ := DialPipe(ctx, `C:\a\socket`); is {
		t.Error("a path is no pipe")
	}
}
