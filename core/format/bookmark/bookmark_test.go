package bookmark

import (
	"encoding/binary"
	"encoding/hex"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	made    = time.Date(2024, 5, 17, 6, 30, 0, 0, time.UTC)
	volMade = time.Date(2021, 11, 2, 23, 59, 59, 0, time.UTC)
	places  = []Place{
		{Path: "/Applications/Fogbell Sync.app", Volume: "Macintosh HD", VolumePath: "/",
			VolumeUUID: "0A1B2C3D-0000-4000-8000-001122334455", Created: made, VolumeCreated: volMade},
		{Path: "/Volumes/Übersee Backup/Tide.app", Volume: "Übersee Backup", VolumePath: "/Volumes/Übersee Backup",
			Created: made, VolumeCreated: volMade},
		{Path: "/" + strings.Repeat("深い/", 200) + "x.app", Volume: "D", VolumePath: "/", Created: made,
			VolumeCreated: volMade},
	}
)

func TestRoundTrip(t *testing.T) {
	for _, p := range places {
		got, err := Parse(Encode(p))
		require.NoError(t, err)
		require.Equal(t, p, got)
		p.VolumeUUID = "" // an alias has none
		p.Volume = "D"    // and a short name for its volume
		if len(p.Path) < 200 {
			got, err = Parse(EncodeAlias(p))
			require.NoError(t, err)
			require.Equal(t, p, got)
		}
	}
}

// A record put together by hand from the descriptions of the format, apart from
// our own writer: an alias of version 3.
func TestAliasOfVersion3(t *testing.T) {
	fixed := "00000000" + "0000" + "0003" + "0000" + // application, size, version, kind
		"0000dcb2a43f0000" + "482b0000" + "0000" + "00000002" + "00000011" + "0000e26cf0880000" + "00000000" +
		strings.Repeat("00", 14)
	b, err := hex.DecodeString(fixed + "0012" + "0010" + hex.EncodeToString([]byte("Users/mara/x.app")) + "0013" +
		"0001" + hex.EncodeToString([]byte("/")) + "00" + "ffff0000")
	require.NoError(t, err)
	p, err := Parse(b)
	require.NoError(t, err)
	require.Equal(t, "/Users/mara/x.app", p.Path)
	require.Equal(t, "/", p.VolumePath)
	require.Equal(t, time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC).Add(0xe26cf088*time.Second), p.Created)
}

// Old records tell the path with colons, in which a slash may stand in a name.
func TestCarbonPath(t *testing.T) {
	b := EncodeAlias(Place{Path: "/x", Volume: "Disk", VolumePath: "/Volumes/Disk", Created: made})[:150]
	for _, f := range []struct {
		tag  uint16
		text string
	}{{2, "Disk:Apps:In/Out.app"}, {19, "/Volumes/Disk"}, {0xffff, ""}} {
		b = binary.BigEndian.AppendUint16(b, f.tag)
		b = binary.BigEndian.AppendUint16(b, uint16(len(f.text)))
		b = append(append(b, f.text...), make([]byte, len(f.text)%2)...)
	}
	p, err := Parse(b)
	require.NoError(t, err)
	require.Equal(t, "/Volumes/Disk/Apps/In:Out.app", p.Path)
}

// Cut anywhere and with any byte changed, it is read or refused, never more.
func TestDamaged(t *testing.T) {
	for _, whole := range [][]byte{Encode(places[0]), EncodeAlias(places[0])} {
		for n := range whole {
			p, err := Parse(whole[:n])
			if err == nil {
				require.Equal(t, places[0].Path, p.Path)
			}
			for _, bit := range []byte{1, 0x80, 0xff} {
				broken := append([]byte(nil), whole...)
				broken[n] ^= bit
				_, _ = Parse(broken)
			}
		}
	}
	circle := Encode(places[0])
	table := binary.LittleEndian.Uint32(circle[48:])
	binary.LittleEndian.PutUint32(circle[48+table+12:], table)
	_, err := Parse(circle)
	require.ErrorIs(t, err, ErrDamaged)
	binary.LittleEndian.PutUint32(circle[48+table+16:], 0xffffffff) // a giant count
	_, err = Parse(circle)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = Parse([]byte("nothing of the kind"))
	require.ErrorIs(t, err, ErrFormat)
}

func FuzzPlace(f *testing.F) {
	for _, p := range places[:2] {
		f.Add(Encode(p))
		f.Add(EncodeAlias(p))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := Parse(b)
		if err == nil && (!strings.HasPrefix(p.Path, "/") || strings.Contains(p.Path, "\x00")) {
			t.Fatalf("%q is no path", p.Path)
		}
	})
}

func TestWideNames(t *testing.T) {
	for text, want := range map[string]string{"": "short", "\x00": "short", "\x00\x01": "short", "\x00\x00": "short",
		"\x00\x01\x00a": "a", "\x00\x09\x00a\x00b": "ab"} {
		require.Equal(t, want, wide([]byte(text), "short"), "%q", text)
	}
}
