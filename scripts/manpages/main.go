// Command manpages writes the manual pages of the commands into a directory.
package main

import (
	"fmt"
	"os"

	"fiume/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "manpages takes the directory to write into")
		os.Exit(2)
	}
	if err := cli.ManPages(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
