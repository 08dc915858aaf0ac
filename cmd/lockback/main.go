// Command lockback lists everything that starts by itself on a computer, records
// the exact state, switches entries off so that nothing is lost, and brings any
// recorded state back.
package main

import (
	"os"

	"lockback/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], cli.Standard())) }
