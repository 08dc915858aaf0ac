package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Long work shows on a terminal that it goes on, and leaves nothing behind; short work, and work
// that nobody watches, is silent.
func TestBusy(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		progress, quiet bool
		lasts           time.Duration
		shows           string
	}{{true, false, patience * 3 / 2, "\rreading, 1 s" + spaces(28) + "\r" + spaces(40) + "\r"}, {true, false, 0,
		""}, {true, true, patience * 3 / 2, ""}, {false, false, patience * 3 / 2, ""}} {
		var out bytes.Buffer
		a := &app{Streams: Streams{Err: &out, Progress: c.progress}, quiet: c.quiet}
		done := a.busy("reading")
		time.Sleep(c.lasts)
		done()
		done()
		require.Equal(t, c.shows, out.String())
	}
}

func spaces(n int) string { return string(bytes.Repeat([]byte(" "), n)) }
