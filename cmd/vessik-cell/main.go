// Command vessik-cell is the launcher: it closes the cell that it was started in behind itself and becomes the program that runs
// there. It is embedded in the service, and small, so that a cell does not carry the service's memory.
package main

import (
	"fmt"
	"os"

	"vessik/internal/cell/inside"
)

func main() {
	fmt.Fprintln(os.Stderr, inside.Enter(os.Args[1:]))
	os.Exit(inside.NotEntered)
}
