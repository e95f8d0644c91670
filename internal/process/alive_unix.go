//go:build unix

package process

import "syscall"

// Gone tells whether no process has this number, as far as can be known.
func Gone(pid int) bool { return syscall.Kill(pid, 0) == syscall.ESRCH }
