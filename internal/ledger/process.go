package ledger

import (
	"fmt"
	"os"
	"strings"
)

// holder identifies this process for a lease.
func holder() (host string, pid int, token string) {
	host, _ = os.Hostname()
	pid = os.Getpid()
	return host, pid, fmt.Sprintf("%s/%d/%s", host, pid, processStart(pid))
}

// processStart tells processes apart that had the same number one after the
// other: the start time from /proc, "" where there is none.
func processStart(pid int) string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	// Field 22 (proc(5)), counted after the command's name, which may hold anything.
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	if len(f) < 20 || f[0] == "Z" || f[0] == "X" { // dead, though its parent has not noticed yet
		return ""
	}
	return f[19]
}

// dead reports whether the process that held a lease on this host is gone. Where
// start times are not told, one that has the same number is taken for it.
func dead(pid int, token string) bool {
	if !alive(pid) {
		return true
	}
	start := processStart(pid)
	if start == "" {
		return processStart(os.Getpid()) != ""
	}
	return !strings.HasSuffix(token, "/"+start)
}
