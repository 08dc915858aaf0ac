package cli

import (
	"fmt"
	"sync"
	"time"
)

// patience is how long work goes on in silence.
const patience = time.Second

// busy shows, on a terminal, that long work goes on, until the function that it returns is called.
func (a *app) busy(doing string) (done func()) {
	if !a.Told || a.quiet {
		return func() {}
	}
	ended := make(chan struct{})
	var shown sync.WaitGroup
	began := time.Now()
	shown.Go(func() {
		tick := time.NewTimer(patience)
		defer tick.Stop()
		told := false
		for {
			select {
			case <-ended:
				if told {
					fmt.Fprintf(a.Err, "\r%-40s\r", "")
				}
				return
			case <-tick.C:
				told = true
				fmt.Fprintf(a.Err, "\r%s, %d s", doing, int(time.Since(began)/time.Second))
				tick.Reset(patience)
			}
		}
	})
	return sync.OnceFunc(func() {
		close(ended)
		shown.Wait()
	})
}
