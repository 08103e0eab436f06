package mysql

import (
	"bytes"
	"errors"
	"testing"

	"gentle-harbor/internal/finding"
)

// packets gives packets of some sizes, with their headers.
func packets(sizes ...int) []byte {
	var b bytes.Buffer
	for i, size := range sizes {
		b.Write([]byte{byte(size), byte(size >> 8), byte(size >> 16), byte(i)})
		b.Write(make([]byte, size))
	}
	return b.Bytes()
}

// TestMessages follows packets, however the reads cut them: messages within their bound pass, also many of them, and one that is over it does not.
func TestMessages(t *testing.T) {
	for about, each := range map[string]struct {
		sizes []int
		over  bool
	}{
		"small ones":             {[]int{1, 0, 100, 7}, false},
		"at the bound":           {[]int{5, full, 1000}, false},
		"one byte more":          {[]int{5, full, 1001}, true},
		"one that goes on twice": {[]int{full, full, 0}, true},
		"a whole one and others": {[]int{full, 0, full, 0, 1000, full, 1000}, false},
	} {
		for _, step := range []int{1 << 20, 4093, full + 4, 7} {
			data := packets(each.sizes...)
			if step == 7 && len(data) > 1<<25 {
				continue
			}
			m := messages{most: full + 1000}
			var err error
			for at := 0; at < len(data) && err == nil; at += step {
				err = m.pass(data[at:min(at+step, len(data))])
			}
			var p *finding.Problem
			if errors.As(err, &p) != each.over || p != nil && p.Code != finding.QueryTooLarge {
				t.Errorf("%s, %d bytes at a time: %v", about, step, err)
			}
			if each.over && m.pass(nil) != err {
				t.Errorf("%s: it goes on", about)
			}
		}
	}
	m := messages{}
	if err := m.pass(packets(full, full, full, 3)); err != nil || m.had != 0 || m.left != 0 {
		t.Errorf("without a bound: %v, %+v", err, m)
	}
}
