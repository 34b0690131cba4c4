package ledger

import "os"

// alive reports whether there is a process of this number.
func alive(pid int) bool {
	p, err := os.FindProcess(pid) // opens it, which fails if it is not there
	if err != nil {
		return false
	}
	p.Release()
	return true
}
