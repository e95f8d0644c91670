//go:build linux

package mariadb

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// proc names a process for good: its number may be given again, its number
// and the time of its start are not.
type proc struct {
	pid   int
	start string // in ticks since the machine's start, as /proc has it
}

// thatIs is the process of a number now; zero if there is none.
func thatIs(pid int) proc {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	// The name, in brackets, may hold anything; the start is the 20th field
	// after it (proc(5), /proc/pid/stat, field 22).
	i := bytes.LastIndexByte(b, ')')
	if err != nil || i < 0 {
		return proc{}
	}
	f := strings.Fields(string(b[i+1:]))
	if len(f) < 20 || f[0] == "Z" || f[0] == "X" {
		return proc{}
	}
	return proc{pid, f[19]}
}

func (p proc) alive() bool { return p.pid > 0 && thatIs(p.pid) == p }

// keep writes the process to a file, whole or not at all.
func (p proc) keep(file string) error {
	tmp := file + ".part"
	if err := os.WriteFile(tmp, fmt.Appendf(nil, "%d %s\n", p.pid, p.start), 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, file)
}

// kept reads what keep wrote; zero if there is none.
func kept(file string) proc {
	b, _ := os.ReadFile(file)
	pid, start, _ := strings.Cut(strings.TrimSpace(string(b)), " ")
	n, err := strconv.Atoi(pid)
	if err != nil {
		return proc{}
	}
	return proc{n, start}
}

// serversOf are the database servers that run on a folder, whoever started
// them: a server whose parent was killed right after starting it has its number
// written nowhere, and holds the folder's locks.
func serversOf(folders ...string) (out []proc) {
	list, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range list {
		b, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		for _, arg := range strings.Split(string(b), "\x00") {
			dir, ok := strings.CutPrefix(arg, "--datadir=")
			for _, f := range folders {
				if ok && filepath.Clean(dir) == f {
					pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
					if p := thatIs(pid); p.pid != 0 && pid != os.Getpid() {
						out = append(out, p)
					}
				}
			}
		}
	}
	return out
}

// How long an orphan has to shut itself down, before it is ended; what it was
// writing is put right by its next start.
const orphanWait = 3 * time.Second

// end stops processes that are not this one's children.
func end(list []proc) error {
	for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		for _, p := range list {
			if p.alive() {
				syscall.Kill(p.pid, sig)
			}
		}
		for until := time.Now().Add(orphanWait); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			left := list[:0:0]
			for _, p := range list {
				if p.alive() {
					left = append(left, p)
				}
			}
			if list = left; len(list) == 0 {
				return nil
			}
		}
	}
	return fmt.Errorf("the database server of an earlier run, process %d, cannot be ended; end it and start again", list[0].pid)
}
