package shell

import (
	"errors"
	"os/exec"
	"strings"
	"testing"
)

// awkward are texts with each character that some shell reads.
var awkward = []string{
	"huts/local", "", "two words", "it's", "$HOME", "~/x", "a=b", "*", `a\b`, `a\`, `\\server\share\`,
	`C:\Program Files\x\`, `say "it"`, `"`, `\"`, `a\\"b`, "%PATH%", "100%", "%", "^", "a^b", "!x!", "a&b",
	"a|b", "<x>", "(a)", "a;b", "`date`",
	"a,b", "@x", "@(1)", "-x.y", "--flag", "--%", "{a}", "‘quoted’", "it’s; x", "‚low‛", "#x", "$(date)",
	"a'b\"c", `"&calc&"`, `x" & "y`, "büro", "=ls", "-", "--a.b", "1kb",
}

// TestWord has each kind of shell read back what was written for it: a real one where it is here,
// the rules of the others as their documentation states them.
func TestWord(t *testing.T) {
	for text, want := range map[string]string{"huts/local": "huts/local", "": "''", "two words": "'two words'",
		"it's": `'it'\''s'`, "$HOME": "'$HOME'", "a=b": "a=b", `a\b`: `'a'\\'b'`} {
		if got := Posix.Word(text); got != want {
			t.Errorf("%q: %s", text, got)
		}
	}
	for _, text := range awkward {
		for _, program := range []string{"sh", "bash", "zsh", "fish"} {
			path, err := exec.LookPath(program)
			if err != nil {
				continue // those that the tests need are seen to where completion is tested
			}
			if out, err := exec.Command(path, "-c", "printf %s "+Posix.Word(text)).Output(); err != nil || string(out) != text {
				t.Errorf("%s reads %q as %q, %v", program, text, out, err)
			}
		}
		checkWindows(t, text)
	}
}

func checkWindows(t *testing.T, text string) {
	t.Helper()
	if got, err := readPowerShell(PowerShell.Word(text)); err != nil || got != text {
		t.Errorf("PowerShell reads %q, from %s, as %q, %v", text, PowerShell.Word(text), got, err)
	}
	line, err := readPrompt(Prompt.Word(text), false)
	if got := arguments(line); err != nil || len(got) != 1 || got[0] != text {
		t.Errorf("the prompt reads %q, from %s, as %q, %v", text, Prompt.Word(text), got, err)
	}
	got, err := readPrompt(strings.TrimPrefix(Prompt.Assign("X", text), "set X="), true)
	if err != nil || got != text {
		t.Errorf("the prompt's file reads %q, from %s, as %q, %v", text, Prompt.Assign("X", text), got, err)
	}
	if got, err := readPowerShell(strings.TrimPrefix(PowerShell.Assign("X", text), "$env:X = ")); err != nil ||
		got != text {
		t.Errorf("PowerShell sets %q, %v", got, err)
	}
}

func FuzzWord(f *testing.F) {
	for _, text := range awkward {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.ContainsAny(text, "\x00\n\r") || strings.ToValidUTF8(text, "") != text {
			t.Skip()
		}
		checkWindows(t, text)
	})
}

// readPowerShell reads one argument by about_Parsing and about_Quoting_Rules: what is not quoted
// must hold nothing that has a meaning.
func readPowerShell(word string) (string, error) {
	const marks = "'‘’‚‛"
	runes := []rune(word)
	if len(runes) == 0 || !strings.ContainsRune(marks, runes[0]) {
		if word == "" || strings.ContainsAny(word, marks+"\"“”„ \t`$&|;<>(){},#") ||
			strings.HasPrefix(word, "@") || strings.HasPrefix(word, "--%") ||
			len(word) > 1 && word[0] == '-' && word[1] != '-' {
			return "", errors.New("it has a meaning")
		}
		return word, nil
	}
	var b strings.Builder
	for i := 1; i < len(runes); i++ {
		if !strings.ContainsRune(marks, runes[i]) {
			b.WriteRune(runes[i])
			continue
		}
		if i == len(runes)-1 {
			return b.String(), nil
		}
		if i++; !strings.ContainsRune(marks, runes[i]) {
			return "", errors.New("it ends early")
		}
		b.WriteRune(runes[i])
	}
	return "", errors.New("it does not end")
}

// readPrompt does what cmd.exe does before a program gets its line: variables first, where a
// percent sign with another one after it takes what is between for a name (only PATH is one
// here), then quotation marks and carets. Within a file two percent signs are one.
func readPrompt(line string, file bool) (string, error) {
	if strings.Contains(strings.ToUpper(line), "%PATH%") &&
		!(file && strings.Contains(strings.ToUpper(line), "%%PATH%%")) {
		return "", errors.New("a variable is read")
	}
	if file {
		rest := strings.ReplaceAll(line, "%%", "\x01")
		if strings.Contains(rest, "%") {
			return "", errors.New("a percent sign is taken away")
		}
		line = strings.ReplaceAll(rest, "\x01", "%")
	}
	var b strings.Builder
	quoted, escaped := false, false
	for _, r := range line {
		switch {
		case escaped:
			escaped = false
			b.WriteRune(r)
		case r == '^' && !quoted:
			escaped = true
		case r == '"':
			quoted = !quoted
			b.WriteRune(r)
		case !quoted && strings.ContainsRune("&|<>()", r):
			return "", errors.New("a command is read")
		default:
			b.WriteRune(r)
		}
	}
	if escaped {
		return "", errors.New("the line goes on")
	}
	return b.String(), nil
}

// arguments takes a line apart as CommandLineToArgvW does.
func arguments(line string) (list []string) {
	var b strings.Builder
	quoted, any, slashes := false, false, 0
	flush := func(n int) { b.WriteString(strings.Repeat(`\`, n)); slashes = 0 }
	for _, r := range line {
		switch {
		case r == '\\':
			slashes++
			any = true
			continue
		case r == '"' && slashes%2 == 1:
			flush(slashes / 2)
			b.WriteRune(r)
		case r == '"':
			flush(slashes / 2)
			quoted, any = !quoted, true
		case (r == ' ' || r == '\t') && !quoted:
			flush(slashes)
			if any {
				list = append(list, b.String())
			}
			b.Reset()
			any = false
			continue
		default:
			flush(slashes)
			b.WriteRune(r)
		}
		any = true
	}
	flush(slashes)
	if any {
		list = append(list, b.String())
	}
	return list
}

// TestOf goes by the name first, and by the system for none.
func TestOf(t *testing.T) {
	for _, c := range []struct {
		name, system string
		want         Kind
	}{{"", "linux", Posix}, {"", "darwin", Posix}, {"", "windows", PowerShell}, {"fish", "windows", Posix},
		{"cmd", "windows", Prompt}, {"pwsh", "linux", PowerShell}} {
		if got, err := Of(c.name, c.system); err != nil || got != c.want {
			t.Errorf("%+v: %d %v", c, got, err)
		}
	}
	if _, err := Of("/bin/sh", "linux"); err == nil || !strings.Contains(err.Error(), "powershell, pwsh, sh") {
		t.Errorf("%v", err)
	}
}
