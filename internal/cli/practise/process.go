package practise

import (
	"syscall"
)

// running says whether a process exists.
func running(pid int) bool { return syscall.Kill(pid, 0) == nil }
