//go:build unix

package realtest

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// Browser is a real browser without a window, driven by its WebDriver (W3C).
type Browser struct {
	*testing.T
	session string
}

// NewBrowser starts one; it ends with the test.
func NewBrowser(t *testing.T) *Browser {
	t.Helper()
	driver, chromium := Program("chromedriver"), Program("chromium")
	if driver == "" || chromium == "" {
		Missing(t, "Chromium")
	}
	port := FreePort(t)
	cmd := exec.Command(driver, fmt.Sprint("--port=", port))
	// Its children are in its group, and end with it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir())
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
	})
	b := &Browser{T: t, session: fmt.Sprintf("http://127.0.0.1:%d/session", port)}
	Until(t, "chromedriver", os.DevNull, func() bool {
		answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/status", port))
		if err == nil {
			_ = answer.Body.Close()
		}
		return err == nil
	})
	var made struct {
		SessionID string `json:"sessionId"`
	}
	data, err := os.MkdirTemp("", "gharbor-browser-") // the test's own folder can go before the browser has let go of it
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(data) })
	b.ask(http.MethodPost, "", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"goog:chromeOptions": map[string]any{"binary": chromium,
		"args": []string{
			"--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--user-data-dir=" +
				data, "--window-size=1280,800",
		}}}}}, &made)
	b.session += "/" + made.SessionID
	t.Cleanup(func() {
		r, err := http.NewRequest(http.MethodDelete, b.session, nil)
		if err != nil {
			return
		}
		if answer, err := (&http.Client{Timeout: 5 * time.Second}).Do(r); err == nil {
			_ = answer.Body.Close()
		}
	})
	return b
}

// ask sends a command and reads its value.
func (b *Browser) ask(method, path string, in, out any) {
	b.Helper()
	var body io.Reader
	if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			b.Fatal(err)
		}
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequest(method, b.session+path, body)
	if err != nil {
		b.Fatal(err)
	}
	answer, err := (&http.Client{Timeout: 60 * time.Second}).Do(r)
	if err != nil {
		b.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != http.StatusOK {
		b.Fatalf("%s %s: %v %s", method, path, err, data)
	}
	if out == nil {
		return
	}
	if err := json.Unmarshal(data, &struct{ Value any }{out}); err != nil {
		b.Fatalf("%s: %v", path, err)
	}
}

// Goes opens a page.
func (b *Browser) Goes(url string) {
	b.Helper()
	b.ask(http.MethodPost, "/url", map[string]string{"url": url}, nil)
}

// Element gives an element by its CSS selector, "" for the one that has the focus.
func (b *Browser) Element(selector string) string {
	b.Helper()
	var found map[string]string
	if selector == "" {
		b.ask(http.MethodGet, "/element/active", nil, &found)
	} else {
		b.ask(http.MethodPost, "/element", map[string]string{"using": "css selector", "value": selector}, &found)
	}
	for _, id := range found {
		return id
	}
	b.Fatalf("there is no %s", selector)
	return ""
}

// Title gives the title of the page.
func (b *Browser) Title() (title string) {
	b.Helper()
	b.ask(http.MethodGet, "/title", nil, &title)
	return title
}

// Text gives what an element shows, in one request: the page can be another one at the next.
func (b *Browser) Text(selector string) (text string) {
	b.Helper()
	b.ask(http.MethodPost, "/execute/sync",
		map[string]any{"script": "const e = document.querySelector(arguments[0]); return e ? e.innerText : ''",
			"args": []any{selector}}, &text)
	return text
}

// Types sends keys to an element, "" for the one that has the focus.
func (b *Browser) Types(selector, keys string) {
	b.Helper()
	b.ask(http.MethodPost, "/element/"+b.Element(selector)+"/value", map[string]string{"text": keys}, nil)
}

// Enter is the Enter key, Tab the Tab key (WebDriver, section 17.4.2).
const (
	Enter = "\ue007"
	Tab   = "\ue004"
)

// Wide says how wide the page wants to be, and how wide the window is, at a window's width.
func (b *Browser) Wide(columns int) (page, window int) {
	b.Helper()
	b.ask(http.MethodPost, "/window/rect", map[string]int{"width": columns, "height": 800}, nil)
	var both []int
	b.ask(http.MethodPost, "/execute/sync",
		map[string]any{"script": "return [document.documentElement.scrollWidth, window.innerWidth]",
			"args": []any{}}, &both)
	return both[0], both[1]
}

// Picture writes what is shown as a PNG, where GHARBOR_TEST_PICTURES names a folder.
func (b *Browser) Picture(name string) {
	b.Helper()
	folder := os.Getenv("GHARBOR_TEST_PICTURES")
	if folder == "" {
		return
	}
	var text string
	b.ask(http.MethodGet, "/screenshot", nil, &text)
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, name+".png"), data, 0o644); err != nil {
		b.Fatal(err)
	}
}

// Shows requires parts of a text on the page, which may still be on its way.
func (b *Browser) Shows(parts ...string) {
	b.Helper()
	text := ""
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if text = b.Text("body"); !slices.ContainsFunc(parts, func(part string) bool {
			return !strings.Contains(text, part)
		}) {
			return
		}
	}
	for _, part := range parts {
		if !strings.Contains(text, part) {
			b.Errorf("%q is not on the page:\n%s", part, text)
		}
	}
}
