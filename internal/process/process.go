// Package process is what the systems say and do differently about processes.
package process

import "os/exec"

// Start starts a command that is told to stop when this process ends, however
// that ends, as far as the system has a way to. ended is closed when the command
// has.
func Start(c *exec.Cmd) (ended <-chan struct{}, err error) { return start(c) }
