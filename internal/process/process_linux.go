package process

import (
	"os/exec"
	"runtime"
	"syscall"
)

// With a group of its own Ctrl-C reaches the command through us.
func start(c *exec.Cmd) (<-chan struct{}, error) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	ended, started := make(chan struct{}), make(chan error)
	go func() {
		// The signal at our death is tied to the thread that starts the child
		// (prctl(2), PR_SET_PDEATHSIG).
		runtime.LockOSThread()
		err := c.Start()
		started <- err
		if err == nil {
			c.Wait()
			close(ended)
		}
	}()
	return ended, <-started
}
