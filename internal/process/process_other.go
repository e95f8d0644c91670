//go:build !linux

package process

import "os/exec"

func start(c *exec.Cmd) (<-chan struct{}, error) {
	ended := make(chan struct{})
	err := c.Start()
	if err == nil {
		go func() {
			c.Wait()
			close(ended)
		}()
	}
	return ended, err
}
