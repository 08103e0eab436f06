package secret

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/shell"
)

// guarded says why a file of secrets, opened as info, is not safe to use; nil when it is.
func guarded(path string, info fs.FileInfo) *finding.Problem {
	if !files.Checked || Mounted(path) {
		return nil
	}
	if problem := unsafe(files.Closed(path), path); problem != nil {
		return problem
	}
	mode := info.Mode().Perm()
	others := mode & 0o077
	if files.ReadOnly(path) {
		others = 0 // a secret that was mounted for a service: whoever mounted it decides who reads it
	}
	if others != 0 {
		return &finding.Problem{Code: finding.SecretFileUnsafe,
			Facts: finding.Facts{finding.FactDetail: fmt.Sprintf("%s has mode %04o: others on this machine can "+
				"read or change it.",
				path, mode), finding.FactFix: "chmod 600 " + shell.Word(path)}}
	}
	return nil
}

// guardedFolder says why a folder is not safe to have a file of secrets in it.
func guardedFolder(folder string) *finding.Problem {
	return unsafe(files.Closed(folder), folder)
}

// unsafe makes a finding of what is open to others on the way to a file of secrets. Any other
// error means that the file cannot be read either, and that is said then.
func unsafe(err error, path string) *finding.Problem {
	var open *files.OpenError
	if !errors.As(err, &open) {
		return nil
	}
	p := &finding.Problem{Code: finding.SecretFolderUnsafe,
		Facts: finding.Facts{finding.FactDetail: "The " + open.Kind + " " + open.Path + " " + open.Why + ".",
			finding.FactFix: open.Fix}}
	if open.Path != path && open.Kind != "file" {
		p.Facts[finding.FactDetail] += " It is on the way to " + path + "."
	}
	if open.Advice != "" {
		p.Facts[finding.FactFix] = open.Advice + ": " + open.Fix
	}
	switch {
	case open.Kind != "file":
	case open.Mode:
		p.Code, p.Facts[finding.FactFix] = finding.SecretFileUnsafe, "chmod 600 "+shell.Word(open.Path)
	default:
		p.Code = finding.SecretFileForeign
	}
	return p
}

// Mounted reports whether path lies where a supervisor mounts secrets for a service, also where
// its links lead.
func Mounted(path string) bool {
	absolute, err := filepath.Abs(path)
	if err != nil || !files.Checked {
		return false
	}
	places := []string{"/run/secrets"}
	if folder := os.Getenv("CREDENTIALS_DIRECTORY"); filepath.IsAbs(folder) {
		places = append(places, filepath.Clean(folder))
	}
	for _, place := range places {
		if !strings.HasPrefix(absolute, place+"/") {
			continue
		}
		// /run, or the folder itself, may be a link of the system's; what is in it must not lead
		// out of it.
		to, err := filepath.EvalSymlinks(absolute)
		real, e := filepath.EvalSymlinks(place)
		if err != nil || e != nil || strings.HasPrefix(to, real+"/") {
			return true
		}
	}
	return false
}
