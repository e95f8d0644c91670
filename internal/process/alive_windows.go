package process

import "golang.org/x/sys/windows"

// Gone tells whether no process has this number, as far as can be known.
func Gone(pid int) bool {
	h, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(pid))
	if err == windows.ERROR_INVALID_PARAMETER {
		return true
	}
	if err == nil {
		windows.CloseHandle(h)
	}
	return false
}
