package main

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"excavate/internal/app"
	"excavate/standin/exchange"
)

// standins starts the simulated devices that lie beside this program, and
// tells where they are. They end with it, however it ends.
func standins(log func(string, ...any)) (devices []app.Device, stop func()) {
	self, err := os.Executable()
	if err != nil {
		return nil, func() {}
	}
	var running []*exec.Cmd
	for name, token := range map[string]string{"standin-console": "", "standin-exchange": exchange.Token} {
		path := filepath.Join(filepath.Dir(self), name)
		if _, err := os.Stat(path); err != nil {
			log("%s is not beside this program; the demo goes without it (make demo builds it)", name)
			continue
		}
		c := exec.Command(path)
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
		c.Stderr = os.Stderr
		out, err := c.StdoutPipe()
		if err == nil {
			// The signal at our death is tied to the thread that starts it.
			done := make(chan error)
			go func() {
				runtime.LockOSThread()
				done <- c.Start()
				c.Wait()
			}()
			err = <-done
		}
		if err != nil {
			log("%s does not start: %v", name, err)
			continue
		}
		running = append(running, c)
		if line, err := bufio.NewReader(out).ReadString('\n'); err == nil {
			log("%s", line[:len(line)-1])
			if _, address, ok := strings.Cut(strings.TrimSpace(line), " on "); ok {
				devices = append(devices, app.Device{Address: address, Token: token})
			}
		} else {
			log("%s ended at once; is its port taken?", name)
		}
	}
	return devices, func() {
		for _, c := range running {
			c.Process.Signal(syscall.SIGTERM)
		}
	}
}
