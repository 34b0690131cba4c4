package rewrite

import "regexp"

// never matches nothing.
var never = regexp.MustCompile(`[^\x00-\x{10FFFF}]`)
