// Command killed is the program as it is, and ends itself in the hardest way that Windows knows at a numbered point of
// a change: where a crash would leave another machine behind. LOCKBACK_TEST_CRASH_AT is the number.
package main

import (
	"fmt"
	"os"
	"strconv"

	"golang.org/x/sys/windows"

	"lockback/internal/cli"
)

func main() {
	n, err := strconv.Atoi(os.Getenv("LOCKBACK_TEST_CRASH_AT"))
	if err != nil {
		fmt.Fprintln(os.Stderr, "LOCKBACK_TEST_CRASH_AT is no number")
		os.Exit(2)
	}
	streams := cli.Standard()
	streams.At = func(string) {
		if n--; n == 0 {
			windows.TerminateProcess(windows.CurrentProcess(), 9)
		}
	}
	os.Exit(cli.Main(os.Args[1:], streams))
}
