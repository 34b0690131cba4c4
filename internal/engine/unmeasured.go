//go:build unmeasured

package engine

const Measured = false
