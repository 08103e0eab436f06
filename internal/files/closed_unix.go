//go:build unix

package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"gentle-harbor/internal/shell"
)

// Checked reports whether owner and mode can be checked on this system.
const Checked = true

// maxLinks is how many links a path may have on its way, as the Linux kernel has it
// (path_resolution(7)).
const maxLinks = 40

// alsoTrusted is the number of the account that [AlsoTrust] named, plus one; 0 for none.
var alsoTrusted atomic.Int64

// AlsoTrust names an account, by name or number, whose files count as this user's own, for as
// long as the process runs: a container's root works on a user's mount. An empty name is no
// account.
func AlsoTrust(account string) error {
	if account == "" {
		alsoTrusted.Store(0)
		return nil
	}
	number, err := strconv.ParseUint(account, 10, 32)
	if err != nil {
		found, e := user.Lookup(account)
		if e != nil {
			return fmt.Errorf("there is no account %q on this machine; give its number", account)
		}
		if number, err = strconv.ParseUint(found.Uid, 10, 32); err != nil {
			return err
		}
	}
	alsoTrusted.Store(int64(number) + 1)
	return nil
}

// Foreign reports whether a file belongs to someone who is neither this user, root, nor the
// account of [AlsoTrust], and to which user.
func Foreign(info fs.FileInfo) (owner int, foreign bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	owner = int(stat.Uid)
	return owner, owner != 0 && owner != os.Geteuid() && int64(owner)+1 != alsoTrusted.Load()
}

// Closed reports, as an *[OpenError], that others could put something else instead of a file or a
// folder. Every folder from the root down, also on the way of links, the links, and what the path
// names belong to root, to this user, or to the account of [AlsoTrust], and no one else can write
// to them. Exceptions are the write right of a group of which this user is the only member,
// folders with the sticky bit, and what is mounted for reading alone. A path that is not there is
// looked at as far as it goes.
func Closed(path string) error {
	whole, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	at, left, links := "/", steps(whole), 0
	for {
		info, err := os.Lstat(at)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			if err := closed(at, info); err != nil {
				return err
			}
			if len(left) == 0 {
				return nil
			}
			at, left = filepath.Join(at, left[0]), left[1:]
			continue
		}
		if err := owned(at, info); err != nil { // its mode says nothing; whoever owns it could make it anew
			return err
		}
		to, err := os.Readlink(at)
		if err != nil {
			return err
		}
		if links++; links > maxLinks {
			return &fs.PathError{Op: "open", Path: path, Err: syscall.ELOOP}
		}
		// Each step of the link's text is taken by itself, from the folder of the link: a ".."
		// after another link leads to the parent of where that one went.
		left = append(steps(to), left...)
		if at = filepath.Dir(at); filepath.IsAbs(to) {
			at = "/"
		}
	}
}

// steps gives the parts of a path, without those that lead nowhere.
func steps(path string) []string {
	var list []string
	for _, each := range strings.Split(path, "/") {
		if each != "" && each != "." {
			list = append(list, each)
		}
	}
	return list
}

// owned looks at the owner alone. A mount for reading alone is no exception here: its files may
// be its owner's to change through another mount.
func owned(path string, info fs.FileInfo) error {
	owner, foreign := Foreign(info)
	if !foreign {
		return nil
	}
	return &OpenError{Path: path, Kind: kind(info),
		Why: fmt.Sprintf("belongs to another user (id %d), who could change it at any time", owner),
		Advice: fmt.Sprintf("Where that user is you, set GHARBOR_OWNER=%d; else look at what is in it before "+
			"you take it over",
			owner),
		Fix: "sudo chown " + strconv.Itoa(os.Geteuid()) + " " + shell.Word(path)}
}

func kind(info fs.FileInfo) string {
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		return "link"
	case info.IsDir():
		return "folder"
	}
	return "file"
}

// ClosedItself is [Closed] for the thing at a path alone, which info describes, and not for the
// way to it.
func ClosedItself(path string, info fs.FileInfo) error { return closed(path, info) }

// closed looks at one thing that is no link.
func closed(path string, info fs.FileInfo) error {
	if err := owned(path, info); err != nil {
		return err
	}
	mode := info.Mode()
	// there each may change only what is their own, and that is looked at next
	sticky := mode.IsDir() && mode&fs.ModeSticky != 0
	if mode.Perm()&0o022 == 0 || sticky || mode.Perm()&0o002 == 0 && privateGroup(info) || ReadOnly(path) {
		return nil
	}
	why := "others could replace what is in it by another file"
	if !mode.IsDir() {
		why = "others could change it"
	}
	return &OpenError{Path: path, Kind: kind(info), Why: fmt.Sprintf("has mode %04o: %s", mode.Perm(), why),
		Fix: "chmod go-w " + shell.Word(path), Mode: true}
}

// privateGroup reports whether a file's group is this user's alone by convention: the user's own
// group, of the user's name.
func privateGroup(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Gid) == os.Getegid() && ownGroup()
}

var ownGroup = sync.OnceValue(func() bool {
	me, err := user.Current()
	if err != nil {
		return false
	}
	group, err := user.LookupGroupId(strconv.Itoa(os.Getegid()))
	return err == nil && group.Name == me.Username
})
