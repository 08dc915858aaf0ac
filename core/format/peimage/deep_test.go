package peimage_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/authenticode"
)

// Messages that are nested as deep as they are long, or claim to be, are refused at once.
func TestDeepMessages(t *testing.T) {
	for _, piece := range []string{"\x30\x80", "\x24\x80", "\xa0\x80", "\x30\x84\x7f\xff\xff\xff"} {
		began := time.Now()
		_, err := authenticode.Parse(bytes.Repeat([]byte(piece), 16<<20/len(piece)))
		require.Error(t, err)
		t.Log(len(piece), time.Since(began))
	}
}
