// Diathermon is the print host beside one 3D printer.
package main

import (
	"os"

	"diathermon/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }
