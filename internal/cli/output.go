package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"time"

	"gentle-harbor/internal/report"
)

// Colours, by what they stand for.
const (
	good   = report.Good
	bad    = report.Bad
	strong = report.Strong
	faint  = report.Faint
)

func width(w io.Writer) (int, bool)                 { return report.Width(w) }
func paint(w io.Writer, colour, text string) string { return report.PaintFor(w, colour, text) }
func terminal(stream any) (*os.File, bool)          { return report.Terminal(stream) }

// data gives the standard output for data that programs read: as it is, but at a terminal cleaned.
func data(out io.Writer) io.Writer {
	if _, atTerminal := terminal(out); atTerminal {
		return report.Copied(out)
	}
	return bare(out)
}

// bare gives the stream behind one that cleans: for data that programs read, and for moving the
// cursor.
func bare(w io.Writer) io.Writer { return report.Bare(w) }

// handOver gives a program that is run this program's own streams: its files themselves, so that
// a terminal stays one for it.
func (c *call) handOver(cmd *exec.Cmd) {
	cmd.Stdin, cmd.Stdout, cmd.Stderr = c.Stdin, c.Stdout, c.Stderr
	for _, each := range []*io.Writer{&cmd.Stdout, &cmd.Stderr} {
		if file, is := report.File(*each); is {
			*each = file
		}
	}
}

// age says how long ago something was, in one unit.
func age(d time.Duration) string {
	switch {
	case d < 0:
		return "0 s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// tooEarly is from how far in the future on a time shows that a clock was ahead.
const tooEarly = time.Minute

// timeAgo says how long before another time something was that was noted by a clock of this
// machine, which may have been ahead then.
func timeAgo(then, today time.Time) string {
	if d := today.Sub(then); d >= -tooEarly {
		return age(d) + " ago"
	}
	return "at " + then.Local().Format("2006-01-02 15:04") + ", which is still to come: the clock was ahead"
}

// systemWord gives the system's word for an error, without the file that the system names for
// standard output.
func systemWord(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}
