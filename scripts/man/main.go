// Command man writes the manual page, made of the program's own commands and options.
//
//	go run ./scripts/man > jugatum.1
package main

import (
	"fmt"
	"os"

	docs "github.com/urfave/cli-docs/v3"

	"jugatum/internal/cli"
)

func main() {
	page, err := docs.ToManWithSection(cli.Commands(), 1)
	if err != nil {
		fmt.Fprintln(os.Stderr, "man:", err)
		os.Exit(1)
	}
	fmt.Print(page)
}
