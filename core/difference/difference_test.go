package difference_test

import (
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/difference"
	"lockback/core/machine/artifact"
)

func file(content string) artifact.Image {
	return artifact.NewFile([]byte(content), 0o644, 0, 0, time.Unix(1773480413, 0))
}

func plist(body string) string {
	return `<?xml version="1.0" encoding="UTF-8"?><!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" ` +
		`"http://www.apple.com/DTDs/PropertyList-1.0.dtd"><plist version="1.0"><dict>` + body + `</dict></plist>`
}

func TestWords(t *testing.T) {
	absent := artifact.Image{Kind: artifact.Absent}
	link := func(to string) artifact.Image { return artifact.NewLink(to, 0, 0, time.Unix(1773480413, 0)) }
	mode := func(i artifact.Image, m fs.FileMode) artifact.Image { i.Mode = m; return i }
	value := func(typ uint32, data ...byte) artifact.Image {
		return artifact.Image{Kind: artifact.Value, UID: -1, GID: -1, Type: typ, Content: data}
	}
	text := func(typ uint32, s string) artifact.Image {
		var b []byte
		for _, r := range s {
			b = append(b, byte(r), 0)
		}
		return value(typ, b...)
	}
	a, start := artifact.File("/etc/x"), artifact.RegistryValue(`HKLM\SYSTEM\X`, "Start")
	approved := artifact.RegistryValue(`HKCU\Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run`,
		"Fogbell")
	for _, c := range []struct {
		artifact      artifact.Artifact
		before, after artifact.Image
		want          string
	}{
		{a, absent, absent, ""},
		{a, absent, link("/dev/null"), "link to /dev/null made"},
		{a, link("/a"), absent, "link to /a removed"},
		{a, link("/a"), link("/b"), "link leads to /b instead of /a"},
		{a, link("/a"), file("x"), "a link to /a becomes a file"},
		{a, absent, artifact.NewFolder(0o755, 0, 0), "folder made"},
		{a, absent, file("[Desktop Entry]\nHidden=true\n"), `file made: "[Desktop Entry]", Hidden=true`},
		{a, absent, file(strings.Repeat("x\n", 9)), "file made, 18 bytes"},
		{a, file("abc"), absent, "file removed, 3 bytes"},
		{a, file("a=1\nb=2\n"), file("a=1\nHidden=true\nb=2\n"), "adds Hidden=true"},
		{a, file("a=1\nHidden=true\nb=2\n"), file("a=1\nb=2\n"), "takes out Hidden=true"},
		{a, file("one\ntwo\n"), file("one\n#lockback:off two\n"), "line 2 commented out"},
		{a, file("#lockback:off one\n#lockback:off two\n"), file("one\ntwo\n"), "lines 1, 2 no longer commented out"},
		{a, file("a b\n"), file("a c\n"), `line 1: "a b" → "a c"`},
		{a, file(strings.Repeat("x\n", 9)), file(strings.Repeat("y\n", 9)),
			"line 1: x → y; line 2: x → y; line 3: x → y; line 4: x → y; and 5 more differences"},
		{a, file("\x00\x01"), file("\x00\x02\x03"), "content differs, 2 → 3 bytes"},
		{a, mode(file("x"), 0o755), mode(file("x"), 0o644), "no longer executable"},
		{a, mode(file("x"), 0o644), mode(file("x"), 0o755), "executable again"},
		{a, mode(file("x"), 0o644), mode(file("x"), 0o600), "rights 0644 → 0600"},
		{a, file("x"), func() artifact.Image { i := file("x"); i.UID = 7; return i }(), "owner 0:0 → 7:0"},
		{a, file("x"), func() artifact.Image { i := file("x"); i.ModTime = i.ModTime.Add(time.Minute); return i }(),
			"time of last change 2026-03-14T09:26:52Z → 2026-03-14T09:27:52Z"},
		{a, file(plist("<key>a</key><true/>")), file(plist("<key>a</key><true/><key>org.x</key><true/>")),
			"adds org.x = true"},
		{a, file(plist("<key>a</key><true/>")), file(plist("")), "takes out a, was true"},
		{a, file(plist("<key>a</key><dict><key>b</key><string>x</string></dict>")),
			file(plist("<key>a</key><dict><key>b</key><string>y z</string></dict>")), `a > b x → "y z"`},
		{start, value(4, 2, 0, 0, 0), value(4, 4, 0, 0, 0), "Start 2 → 4"},
		{start, text(1, "a\x00"), text(1, "b\x00"), `Start "a" → "b"`},
		{start, text(7, "a\x00b\x00\x00"), text(7, "a\x00\x00"), `"b" taken out of Start`},
		{start, text(7, "a\x00\x00"), text(7, "a\x00b\x00\x00"), `"b" added to Start`},
		{start, value(4, 2, 0, 0, 0), absent, "Start removed, was 2"},
		{start, absent, value(4, 3, 0, 0, 0), "Start set to 3"},
		{approved, absent, value(3, 3, 0, 0, 0), "Fogbell marked off in Windows' own startup settings"},
		{approved, value(3, 3, 0, 0, 0), value(3, 2, 0, 0, 0), "Fogbell marked on in Windows' own startup settings"},
		{approved, value(3, 3, 0, 0, 0), absent, "Fogbell no longer marked in Windows' own startup settings"},
	} {
		require.Equal(t, c.want, strings.Join(difference.Words(c.artifact, c.before, c.after), "; "))
	}
}

func FuzzWords(f *testing.F) {
	f.Add([]byte("a\nb\n"), []byte("a\n#lockback:off b\n"))
	f.Add([]byte(plist("<key>a</key><true/>")), []byte(plist("<key>a</key><false/>")))
	f.Add([]byte("bplist00\xd0\x08\x00"), []byte("\x00"))
	f.Fuzz(func(t *testing.T, before, after []byte) {
		a, b := file(string(before)), file(string(after))
		words := difference.Words(artifact.File("/x"), a, b)
		require.Equal(t, a.Same(b), len(words) == 0)
		require.LessOrEqual(t, len(words), 6)
	})
}
