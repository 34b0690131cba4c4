//go:build !unmeasured

package engine

// Measured is false only in a program built with the tag unmeasured, with which
// `go run ./bench -cost` finds out what the measuring costs: there the log, the
// locks and the waits of batches are not looked at.
const Measured = true
