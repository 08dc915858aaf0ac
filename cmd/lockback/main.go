// Command lockback lists everything that starts by itself on a computer, records
// the exact state, switches entries off so that nothing is lost, and brings any
// recorded state back.
package main

import (
	"os"
	"runtime"
	"runtime/debug"

	"lockback/internal/cli"
)

// withoutCollecting is how much memory, in bytes, a run may take before the first collection.
const withoutCollecting = 44 << 20

func main() {
	// A run is short and its memory small: most machines need no garbage collected
	// at all, and on larger ones collecting every few megabytes would cost more than
	// it frees. The limit keeps large machines in bounds; an explicit GOGC or
	// GOMEMLIMIT wins.
	if os.Getenv("GOGC") == "" && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetGCPercent(-1)
		debug.SetMemoryLimit(withoutCollecting)
		runtime.AddCleanup(new([64]byte), func(struct{}) { // what is left to the first collection
			debug.SetGCPercent(400)
			debug.SetMemoryLimit(224 << 20)
		}, struct{}{})
	}
	os.Exit(cli.Main(os.Args[1:], cli.Standard()))
}
