package child

import (
	"os/exec"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// A job holds a program and all that it starts, from its first instruction on: it begins
// suspended, and runs once it is in the job. When the last handle of the job is closed, which
// also happens when this program is killed, what is in it ends.
type system struct {
	job     windows.Handle
	wanted  bool
	creates uint32
}

func (g *Group) apart() {
	g.wanted, g.creates = true, windows.CREATE_SUSPENDED
	g.cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: g.creates}
}

// front has nothing to do: a console belongs to all of its programs.
func (g *Group) front() {}

func (g *Group) follow() { g.apart() }

// detach leaves the console: one of its own would be a window, and Ctrl-C of the old one would
// reach it.
func (g *Group) detach() {
	g.cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.DETACHED_PROCESS | windows.CREATE_NEW_PROCESS_GROUP}
}

func (g *Group) start() error {
	if !g.wanted {
		return g.cmd.Start()
	}
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return err
	}
	limits := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{BasicLimitInformation: windows.JOBOBJECT_BASIC_LIMIT_INFORMATION{LimitFlags: windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE}}
	if _, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation,
		uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits))); err == nil {
		if err = g.cmd.Start(); err == nil {
			if err = begin(job, uint32(g.cmd.Process.Pid)); err != nil {
				_ = g.cmd.Process.Kill()
				_ = g.cmd.Wait()
				g.cmd.Process = nil
			}
		}
	}
	if err != nil {
		_ = windows.CloseHandle(job)
		return err
	}
	g.job = job
	return nil
}

// begin puts a suspended program into a job and lets it run.
func begin(job windows.Handle, pid uint32) error {
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, pid)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(process)
	if err := windows.AssignProcessToJobObject(job, process); err != nil {
		return err
	}
	threads, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPTHREAD, 0)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(threads)
	entry := windows.ThreadEntry32{Size: uint32(unsafe.Sizeof(windows.ThreadEntry32{}))}
	for err = windows.Thread32First(threads, &entry); err == nil; err = windows.Thread32Next(threads, &entry) {
		if entry.OwnerProcessID != pid {
			continue
		}
		thread, err := windows.OpenThread(windows.THREAD_SUSPEND_RESUME, false, entry.ThreadID)
		if err != nil {
			return err
		}
		_, err = windows.ResumeThread(thread)
		_ = windows.CloseHandle(thread)
		return err // a program that has not run yet has one thread
	}
	return err
}

func (g *Group) kill() {
	if g.job != 0 {
		_ = windows.TerminateJobObject(g.job, 1)
	}
	_ = g.cmd.Process.Kill()
}

func (g *Group) close() {
	if g.job != 0 {
		_ = windows.CloseHandle(g.job)
		g.job = 0
	}
}

// controlC is the exit code of a program that Ctrl-C ended (STATUS_CONTROL_C_EXIT).
const controlC = 0xC000013A

// Interrupted reports whether a program was ended by Ctrl-C.
func Interrupted(err *exec.ExitError) bool { return uint32(err.ExitCode()) == controlC }
