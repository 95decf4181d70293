package process

import (
	"os/exec"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
)

func detach(*exec.Cmd) {}

// newJob is a job that ends its processes when its last handle is closed, also if this
// program is killed.
func newJob() (windows.Handle, error) {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return 0, err
	}
	limits := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	limits.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	if _, err := windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits))); err != nil {
		windows.CloseHandle(job)
		return 0, err
	}
	return job, nil
}

// enclose puts this program itself into a job, so that what it starts is in one from
// birth: a program that is killed between starting a process and putting that into its
// own job would leave it running. Where jobs do not nest, the jobs of the processes
// must do; that is why no error is told.
var enclose = sync.OnceFunc(func() {
	job, err := newJob()
	if err != nil {
		return
	}
	if windows.AssignProcessToJobObject(job, windows.CurrentProcess()) != nil {
		windows.CloseHandle(job)
	}
})
