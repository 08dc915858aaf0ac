// Tideservice is a Windows service that writes down that it was started. It shows
// whether a service that was turned off really stays off.
package main

import (
	"os"

	"golang.org/x/sys/windows/svc"
)

type service struct{}

// Execute notes the start and waits to be stopped.
func (service) Execute(_ []string, requests <-chan svc.ChangeRequest, status chan<- svc.Status) (bool, uint32) {
	mark := `C:\tide\started`
	if len(os.Args) > 1 {
		mark = `C:\tide\` + os.Args[1]
	}
	if f, err := os.OpenFile(mark, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644); err == nil {
		f.WriteString("started\n")
		f.Close()
	}
	status <- svc.Status{State: svc.Running, Accepts: svc.AcceptStop | svc.AcceptShutdown}
	for r := range requests {
		if r.Cmd == svc.Stop || r.Cmd == svc.Shutdown {
			break
		}
		status <- r.CurrentStatus
	}
	return false, 0
}

func main() {
	if err := svc.Run("TideSvc", service{}); err != nil {
		os.Exit(1)
	}
}
