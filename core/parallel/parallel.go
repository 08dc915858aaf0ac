// Package parallel shares pieces of work out among a few goroutines.
package parallel

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// Each calls do once for each number from 0 to n-1, and returns when all calls have returned. The calls run at the same
// time, in no fixed order, twice as many as there are processors, because most of them wait for the disk.
//
//	parallel.Each(len(names), func(k int) { found[k] = look(names[k]) })
func Each(n int, do func(k int)) {
	// One goroutine for each call would spend more on growing its stack than on the work.
	var group sync.WaitGroup
	var next atomic.Int64
	for range min(n, 2*runtime.GOMAXPROCS(0)) {
		group.Go(func() {
			for k := int(next.Add(1)) - 1; k < n; k = int(next.Add(1)) - 1 {
				do(k)
			}
		})
	}
	group.Wait()
}
