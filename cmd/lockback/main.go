// Command lockback lists everything that starts by itself on a computer, records
// the exact state, switches entries off so that nothing is lost, and brings any
// recorded state back.
package main

import (
	"os"
	"runtime/debug"

	"lockback/internal/cli"
)

func main() {
	// A run is short and its memory small: collecting garbage every few
	// megabytes would cost more than it frees. The limit keeps large machines
	// in bounds; an explicit GOGC or GOMEMLIMIT wins.
	if os.Getenv("GOGC") == "" && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetGCPercent(400)
		debug.SetMemoryLimit(224 << 20)
	}
	os.Exit(cli.Main(os.Args[1:], cli.Standard()))
}
