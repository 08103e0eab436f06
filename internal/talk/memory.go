package talk

import (
	"bytes"
	"encoding/json"
	"strings"

	"gentle-harbor/internal/script"
)

// Bounds of what is remembered of a profile.
const (
	MostRemembered = 2000
	mostLine       = 64 << 10 // bytes of one text
	MostMemory     = 4 << 20  // bytes of the file
)

// Remembers reports whether a text that was typed may be remembered: none that begins with a
// space, none with a word that comes before a password, and nothing that is very long.
func Remembers(text string) bool {
	if strings.TrimSpace(text) == "" || len(text) > mostLine || strings.HasPrefix(text, " ") ||
		strings.HasPrefix(text, "\t") {
		return false
	}
	return !script.Secretive(text)
}

// Encode gives a text as a line of the file of what is remembered: a JSON string (RFC 8259).
func Encode(text string) []byte {
	data, err := json.Marshal(text)
	if err != nil {
		return nil
	}
	return append(data, '\n')
}

// Decode gives the texts of such a file, the oldest first, at most [MostRemembered] of them. A
// line that is none is left out, as is one that may not be remembered.
func Decode(data []byte) []string {
	var list []string
	for line := range bytes.SplitSeq(data, []byte("\n")) {
		var text string
		if len(line) == 0 || json.Unmarshal(line, &text) != nil || !Remembers(text) {
			continue
		}
		list = append(list, text)
	}
	return list[max(0, len(list)-MostRemembered):]
}

// Added gives such a file with one more text: the oldest ones make room.
func Added(data []byte, text string) []byte {
	all := append(Decode(data), text)
	all = all[max(0, len(all)-MostRemembered):]
	size := 0
	for i := len(all) - 1; i >= 0; i-- {
		if size += len(Encode(all[i])); size > MostMemory/2 {
			all = all[i+1:]
			break
		}
	}
	var b bytes.Buffer
	for _, each := range all {
		b.Write(Encode(each))
	}
	return b.Bytes()
}
