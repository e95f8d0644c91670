package process

import (
	"os"
	"os/exec"
	"testing"
	"time"
)

func TestStart(t *testing.T) {
	c := exec.Command("sleep", "0.05")
	ended, err := Start(c)
	if err != nil {
		t.Fatal(err)
	}
	if Gone(c.Process.Pid) || Gone(os.Getpid()) {
		t.Error("what runs is gone")
	}
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("its end is not told")
	}
	if !Gone(c.Process.Pid) {
		t.Error("what ended is there")
	}
	if _, err := Start(exec.Command("/no/such/command")); err == nil {
		t.Error("what is not there starts")
	}
}
