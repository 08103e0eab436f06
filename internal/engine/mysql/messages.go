package mysql

import "gentle-harbor/internal/engine"

// full is the length of a packet that has the next one as its continuation ("Sending More Than 16Mb", MySQL source documentation).
const full = 1<<24 - 1

// messages follows the packets after the login, so that no message of the server's is larger than it may be: the driver puts one together in
// memory, however long it is.
type messages struct {
	most int // bytes that one message may have, 0 for any number; nothing else of it is to be set
	over error

	header [4]byte
	had    int // bytes of the header
	left   int // bytes of the packet that have not come yet
	size   int // of the message so far
	goesOn bool
}

// pass follows bytes of the server's. Its error is a *finding.Problem, the same from then on.
func (m *messages) pass(p []byte) error {
	for len(p) > 0 && m.over == nil {
		if m.left > 0 {
			n := min(m.left, len(p))
			m.left, p = m.left-n, p[n:]
			continue
		}
		n := copy(m.header[m.had:], p)
		m.had, p = m.had+n, p[n:]
		if m.had < len(m.header) {
			break
		}
		m.had, m.left = 0, length(m.header[:])
		if !m.goesOn {
			m.size = 0
		}
		m.size += m.left
		if m.goesOn = m.left == full; m.most > 0 && m.size > m.most {
			m.over = engine.TooLarge(0, m.most)
		}
	}
	return m.over
}
