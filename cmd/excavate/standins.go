package main

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"excavate/internal/app"
	"excavate/internal/process"
	"excavate/standin/exchange"
)

// standins starts the simulated devices and receivers that lie beside this
// program, and tells where they are. They end with it, however it ends.
func standins(log func(string, ...any)) (devices []app.Device, receivers []string, stop func()) {
	self, err := os.Executable()
	if err != nil {
		return nil, nil, func() {}
	}
	var running []*exec.Cmd
	for _, d := range []app.Device{{Name: "standin-console"}, {Name: "standin-exchange", Token: exchange.Token}} {
		path := filepath.Join(filepath.Dir(self), d.Name)
		if _, err := os.Stat(path); err != nil {
			log("%s is not beside this program; the demo goes without it (make demo builds it)", d.Name)
			continue
		}
		c, line, err := standin(path)
		if err != nil { // its port is taken: any other will do
			d.Note = "its usual port is taken, so it listens on another"
			c, line, err = standin(path, "-port", "0")
		}
		if err != nil {
			d.Note = fmt.Sprintf("it does not start: %v", err)
			log("%s does not start: %v", d.Name, err)
			devices = append(devices, d)
			continue
		}
		running = append(running, c)
		log("%s", line)
		_, d.Address, _ = strings.Cut(line, " on ")
		devices = append(devices, d)
	}
	for _, name := range []string{"standin-engine", "standin-film"} {
		path := filepath.Join(filepath.Dir(self), name)
		if _, err := os.Stat(path); err != nil {
			log("%s is not beside this program; the demo goes without it (make demo builds it)", name)
			continue
		}
		c, line, err := standin(path)
		if err != nil { // its port is taken: any other will do
			c, line, err = standin(path, "-port", "0")
		}
		if err != nil {
			log("%s does not start: %v", name, err)
			continue
		}
		running = append(running, c)
		log("%s", line)
		_, address, _ := strings.Cut(line, " on ")
		receivers = append(receivers, address)
	}
	return devices, receivers, func() {
		for _, c := range running {
			c.Process.Signal(syscall.SIGTERM)
		}
	}
}

// standin starts one and returns the line by which it says where it listens.
func standin(path string, args ...string) (*exec.Cmd, string, error) {
	c := exec.Command(path, args...)
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	if _, err := process.Start(c); err != nil {
		return nil, "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return nil, "", errors.New("it ended at once")
	}
	return c, strings.TrimSpace(line), nil
}
