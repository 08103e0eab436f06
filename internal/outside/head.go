package outside

import (
	"strings"
	"sync"
)

// Head keeps the first bytes that are written to it, and takes the rest without keeping it. It is
// safe for several goroutines. Make one with [NewHead].
type Head struct {
	limit int
	mu    sync.Mutex
	text  []byte
	cut   bool
}

// NewHead makes a Head of a number of bytes.
func NewHead(limit int) *Head { return &Head{limit: limit} }

// Write implements io.Writer. It never fails.
func (h *Head) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	room := min(h.limit-len(h.text), len(p))
	h.text = append(h.text, p[:room]...)
	h.cut = h.cut || room < len(p)
	return len(p), nil
}

// Full reports whether no more is kept.
func (h *Head) Full() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.text) >= h.limit
}

// Raw gives what was kept. It knows whether it was cut.
func (h *Head) Raw() Raw {
	h.mu.Lock()
	defer h.mu.Unlock()
	return Raw{string(h.text), h.cut}
}

// Lines gives the lines of a text, without spaces at their ends, and without empty ones.
func (r Raw) Lines() []Raw {
	var lines []Raw
	for line := range strings.Lines(r.text) {
		if text := strings.TrimRight(line, " \r\n\t"); text != "" {
			lines = append(lines, Raw{text, r.cut && !strings.HasSuffix(line, "\n")})
		}
	}
	return lines
}

// Trimmed gives the text without a word at its beginning, and without spaces around it.
func (r Raw) Trimmed(prefix string) Raw {
	return Raw{strings.TrimSpace(strings.TrimPrefix(r.text, prefix)), r.cut}
}
