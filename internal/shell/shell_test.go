package shell

import (
	"os/exec"
	"testing"
)

func TestWord(t *testing.T) {
	for text, want := range map[string]string{
		"huts/local": "huts/local", "": "''", "two words": "'two words'", "it's": `'it'\''s'`, "$HOME": "'$HOME'", "~/x": "'~/x'", "a=b": "a=b", "*": "'*'",
	} {
		if got := Word(text); got != want {
			t.Errorf("%q: %s", text, got)
		}
		// A real shell reads back the same text.
		if out, err := exec.Command("sh", "-c", "printf %s "+Word(text)).Output(); err != nil || string(out) != text {
			t.Errorf("the shell reads %q as %q, %v", text, out, err)
		}
	}
}
