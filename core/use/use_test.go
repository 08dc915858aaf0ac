package use_test

import (
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/windata"
	"lockback/core/use"
)

func TestParseAssist(t *testing.T) {
	at := time.Date(2026, 3, 12, 8, 5, 0, 0, time.UTC)
	b := make([]byte, 72)
	binary.LittleEndian.PutUint32(b[4:], 41)
	binary.LittleEndian.PutUint64(b[60:], windata.FileTime(at))
	u, ok := use.ParseAssist(b)
	require.True(t, ok)
	require.Equal(t, 41, u.Count)
	require.True(t, u.Last.Equal(at))
	for _, other := range [][]byte{nil, b[:60], make([]byte, 72)} {
		_, ok := use.ParseAssist(other)
		require.False(t, ok)
	}
}

const (
	state = `<?xml version="1.0"?><application-state><context id=""><application id="a.desktop" score="1" ` +
		`last-seen="1773215000"/><application id="b.desktop" last-seen="x"/></context></application-state>`
	recent = `<xbel xmlns:bookmark="x"><bookmark href="file:///a"><info><metadata ` +
		`owner="x"><bookmark:applications><bookmark:application name="Tide" exec="&apos;tide %25u&apos;" modified="2026-03-01T10:00:00Z" count="2"/></bookmark:applications></metadata></info></bookmark></xbel>`
)

func TestListsOfDesktops(t *testing.T) {
	require.Equal(t, map[string]time.Time{"a.desktop": time.Unix(1773215000, 0).UTC()},
		use.ParseApplicationState([]byte(state)))
	all := use.ParseRecentlyUsed([]byte(recent))
	require.Len(t, all, 1)
	require.Equal(t, 2, all["'tide %u'"].Count)
}

func FuzzLists(f *testing.F) {
	f.Add([]byte(state))
	f.Add([]byte(recent))
	f.Fuzz(func(t *testing.T, text []byte) {
		use.ParseApplicationState(text)
		use.ParseRecentlyUsed(text)
		use.ParseAssist(text)
	})
}
