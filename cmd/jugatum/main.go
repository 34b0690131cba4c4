// Command jugatum carries out large changes to a database in small
// transactions that are watched, proven and can be taken back.
package main

import (
	"os"

	"jugatum/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
}
