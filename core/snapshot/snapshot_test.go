package snapshot

import (
	"fmt"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/machine/artifact"
)

func TestImagesComeBackToTheByte(t *testing.T) {
	at := time.Date(2026, 3, 14, 9, 26, 53, 123456789, time.UTC)
	for _, i := range []artifact.Image{
		{Kind: artifact.Absent},
		{Kind: artifact.Regular, Mode: 0o4755 | fs.ModeSetuid | fs.ModeSticky, UID: 1000, GID: 27, ModTime: at,
			Content: []byte("a\x00\xff"), Xattrs: map[string][]byte{"user.x": {0, 255}, "user.empty": {}}},
		{Kind: artifact.Regular, UID: -1, GID: -1, Content: []byte{}},
		{Kind: artifact.Symlink, Mode: 0o777, ModTime: at, Target: "/a\xffb\n\u202e", Xattrs: map[string][]byte{}},
		{Kind: artifact.Folder, Mode: 0o755 | fs.ModeSetgid, ModTime: at, Names: "abc"},
	} {
		contents := map[Digest][]byte{}
		text := EncodeImage(i, func(d Digest, b []byte) { contents[d] = b })
		back, err := DecodeImage(text, func(d Digest) ([]byte, error) {
			b, ok := contents[d]
			if !ok {
				return nil, fmt.Errorf("no content %x", d)
			}
			return b, nil
		})
		require.NoError(t, err)
		require.True(t, i.Same(back), text)
		require.Equal(t, i.ModTime, back.ModTime)
		require.Equal(t, i.Xattrs == nil, back.Xattrs == nil)
		require.Equal(t, text, EncodeImage(back, func(Digest, []byte) {}))
	}
}

func TestEntriesComeBackWhole(t *testing.T) {
	yes := true
	for _, e := range []autostart.Entry{
		{Problems: []string{}},
		{Handle: "k7f3qa2", Location: "linux.rc-local", Stage: autostart.System, Scope: autostart.ForUser, User: "ines",
			Name: "a\tb\nc\\d\\n\u202e", State: autostart.Disabled,
			Mode: "m", Command: "c \\t", Target: autostart.Target{Path: "/x", Exists: &yes, Size: 1 << 40,
				Modified: time.Unix(1, 2).UTC()},
			Known: &autostart.Known{Maker: autostart.Maker{Name: "n", Basis: "b"}, Product: autostart.Product{Name: "p",
				Version: "v", Installed: "i"}, Description: "d", DescriptionBasis: "e"}, OSPart: true, OSBasis: "o",
			Commands: []autostart.Command{{Path: "/y", Exists: &yes}, {Key: "ExecStop", Line: "/z\t1"}}, Guarded: "g",
			Source: autostart.Source{Path: "p", Key: "k", Line: 7},
			Switch: autostart.Unexec, Problems: []string{autostart.Insecure, autostart.Ignored}},
	} {
		text := string(appendEntry(nil, &Recorded{Entry: e}))
		require.NotContains(t, text, "\n")
		var back Recorded
		_, err := decodeEntry(text, &back)
		require.NoError(t, err)
		require.Equal(t, e, back.Entry)
	}
	// A line of an older snapshot lacks the fields that came later.
	var old Recorded
	_, err := decodeEntry("k7f3qa2\tlinux.rc-local", &old)
	require.NoError(t, err)
	require.Equal(t, "linux.rc-local", old.Location)
}

func FuzzSections(f *testing.F) {
	f.Add(
		[]byte(
			"E\tk7f3qa2\t\"/a\"\x1f\"/b\"\tk7f3qa2\tlinux.rc-local\tsystem\nA\tfile\t\"/a\"\t{\"kind\":\"absent\"}\n"))
	f.Add([]byte("A\tfile\t\"/a\"\t{\"kind\":\"file\",\"content\":\"zz\"}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s := &Snapshot{Sections: []Section{{Key: "k", Text: text}}, Load: func(Digest) ([]byte, error) {
			return nil,
				nil
		}}
		other := &Snapshot{Load: s.Load}
		entries, err := s.Entries()
		if err == nil {
			for _, e := range entries {
				_ = e.Name
			}
		}
		if images, err := s.Images(); err == nil {
			for a := range images.Artifacts() {
				images.Image(a)
			}
		}
		if _, err := Compare(s, other); err == nil {
			Compare(other, s)
		}
	})
}
