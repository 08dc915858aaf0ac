package cli

import (
	"fmt"
	"sync"
	"time"

	"lockback/core/program"
)

// patience is how long work goes on in silence.
const patience = time.Second

// busy shows, on a terminal, that long work goes on, until the function that it returns is called.
func (a *app) busy(doing string) (done func()) {
	return a.busyWith(func() string { return doing })
}

// reading is busy with reading a machine: it tells how many programs were compared, which is what
// takes long.
func (a *app) reading(memory *program.Memory) (done func()) {
	return a.busyWith(func() string {
		if looked, of := memory.Progress(); looked > 0 && looked < of {
			return fmt.Sprintf("comparing programs, %d of %d", looked, of)
		}
		return "reading the machine"
	})
}

// busyWith is busy, with words that may be others each time.
func (a *app) busyWith(doing func() string) (done func()) {
	if !a.Progress || a.quiet {
		return func() {}
	}
	ended := make(chan struct{})
	var shown sync.WaitGroup
	began := time.Now()
	shown.Go(func() {
		tick := time.NewTimer(patience)
		defer tick.Stop()
		said := false
		for {
			select {
			case <-ended:
				if said {
					fmt.Fprintf(a.Err, "\r%-40s\r", "")
				}
				return
			case <-tick.C:
				said = true
				fmt.Fprintf(a.Err, "\r%-40s", fmt.Sprintf("%s, %d s", doing(), int(time.Since(began)/time.Second)))
				tick.Reset(patience)
			}
		}
	})
	return sync.OnceFunc(func() {
		close(ended)
		shown.Wait()
	})
}
