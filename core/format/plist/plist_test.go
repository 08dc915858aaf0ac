package plist

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/require"
)

const job = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>Label</key>
	<string>org.gullrock.tide &amp; fog</string>
	<key>ProgramArguments</key>
	<array>
		<string>/Library/Übersicht/tide</string>
		<string></string>
		<string/>
	</array>
	<key>KeepAlive</key>
	<dict>
		<key>SuccessfulExit</key>
		<false/>
	</dict>
	<key>StartInterval</key>
	<integer>3600</integer>
	<key>Nice</key>
	<integer>-5</integer>
</dict>
</plist>
`

func TestReadsEveryForm(t *testing.T) {
	want := map[string]any{"Label": "org.gullrock.tide & fog", "ProgramArguments": []any{"/Library/Übersicht/tide", "",
		""},
		"KeepAlive": map[string]any{"SuccessfulExit": false}, "StartInterval": uint64(3600), "Nice": int64(-5)}
	plain, ok := parsePlainXML([]byte(job))
	require.True(t, ok, "the plain way of writing is read the fast way")
	require.Equal(t, want, plain)
	general, form, err := parse([]byte(job))
	require.NoError(t, err)
	require.Equal(t, XML, form)
	require.Equal(t, any(want), general)
	d := New(want)
	d.Form = Binary
	b, err := d.Bytes()
	require.NoError(t, err)
	again, err := Parse(b)
	require.NoError(t, err)
	require.Equal(t, Binary, again.Form)
	require.Equal(t, any(want), again.Root)
	text, err := Parse([]byte(`{ Label = "org.gullrock.tide"; Program = "/x"; }`))
	require.NoError(t, err)
	require.Equal(t, Text, text.Form)
	require.Equal(t, "/x", text.Dict().Text("Program"))
}

// An edit leaves all other keys as they are, in the form that there was.
func TestEdit(t *testing.T) {
	when := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	for _, form := range []Form{XML, Binary} {
		d := New(map[string]any{"a.b c": true, "日本": []byte{1, 2, 3}, "t": when, "r": 2.5, "n": uint64(1) << 63,
			"m":    int64(-1),
			"deep": map[string]any{"x": []any{"y", map[string]any{"z": "<&>\"'"}}}, strings.Repeat("long", 500): "v",
			"": "empty"})
		d.Form = form
		before, err := d.Bytes()
		require.NoError(t, err)
		d, err = Parse(before)
		require.NoError(t, err)
		same, err := d.Bytes()
		require.NoError(t, err)
		require.Equal(t, before, same, "without an edit it is the same to the byte")
		require.NoError(t, d.Set(true, "a.b c")) // so it is already
		same, err = d.Bytes()
		require.NoError(t, err)
		require.Equal(t, before, same)

		require.NoError(t, d.Set(true, "new", "below"))
		d.Delete("deep", "x")
		d.Delete("nothing", "there")
		require.Error(t, d.Set(1, "t", "no dictionary"))
		after, err := d.Bytes()
		require.NoError(t, err)
		again, err := Parse(after)
		require.NoError(t, err)
		require.Equal(t, form, again.Form)
		require.Equal(t, d.Root, again.Root)
		root := again.Dict()
		require.True(t, root.Dict("new").Bool("below"))
		require.False(t, root.Dict("deep").Has("x"))
		require.Equal(t, []byte{1, 2, 3}, root.Data("日本"))
		require.Equal(t, when, root["t"])
		require.Equal(t, uint64(1)<<63, root["n"])
		require.Equal(t, "v", root.Text(strings.Repeat("long", 500)))
	}
}

// What would not come back as it was is not written.
func TestLossy(t *testing.T) {
	// A binary string with half of a surrogate pair.
	d := New(map[string]any{"k": "ab\u00e9d"})
	d.Form = Binary
	b, err := d.Bytes()
	require.NoError(t, err)
	at := bytes.Index(b, []byte{0, 'a', 0, 'b'})
	require.Positive(t, at)
	b[at], b[at+1] = 0xd8, 0x00
	d, err = Parse(b)
	require.NoError(t, err)
	same, err := d.Bytes()
	require.NoError(t, err)
	require.Equal(t, b, same)
	require.NoError(t, d.Set("x", "other"))
	_, err = d.Bytes()
	require.ErrorIs(t, err, ErrLossy)
}

// An edit that changes nothing leaves the bytes as they were, however they were written.
func TestNoEdit(t *testing.T) {
	odd := []byte("<plist version='1.0'><dict>  " +
		"<key>a</key><true/>\n<key>list</key><array><string>x</string></array></dict></plist>")
	d, err := Parse(odd)
	require.NoError(t, err)
	require.NoError(t, d.Set(true, "a"))
	require.NoError(t, d.Set([]any{"x"}, "list"))
	d.Delete("none")
	d.Delete("a", "below")
	same, err := d.Bytes()
	require.NoError(t, err)
	require.Equal(t, string(odd), string(same))
	require.NoError(t, d.Set([]any{"y"}, "list"))
	other, err := d.Bytes()
	require.NoError(t, err)
	require.NotEqual(t, string(odd), string(other))
}

// binaryOf makes a binary property list of objects as they are given.
func binaryOf(refSize int, objects ...[]byte) []byte {
	b := []byte("bplist00")
	var offsets []byte
	for _, o := range objects {
		offsets = binary.BigEndian.AppendUint32(offsets, uint32(len(b)))
		b = append(b, o...)
	}
	trailer := make([]byte, 32)
	trailer[6], trailer[7] = 4, byte(refSize)
	binary.BigEndian.PutUint64(trailer[8:], uint64(len(objects)))
	binary.BigEndian.PutUint64(trailer[24:], uint64(len(b)))
	return append(append(b, offsets...), trailer...)
}

func TestHostile(t *testing.T) {
	var laughs [][]byte // each array holds the next one twice
	for k := range byte(60) {
		laughs = append(laughs, []byte{0xa2, k + 1, k + 1})
	}
	var chain [][]byte
	for k := range 60000 {
		chain = append(chain, []byte{0xa1, byte((k + 1) >> 8), byte(k + 1)})
	}
	deep := strings.Repeat("<array>", 100000)
	head, _, _ := strings.Cut(job, "<dict>")
	for name, b := range map[string][]byte{
		"nothing": nil, "words": []byte("not a list at all"), "only a header": []byte("bplist00"),
		"cut short":          []byte(job[:300]),
		"an array in itself": binaryOf(1, []byte{0xa1, 0}),
		"a circle":           binaryOf(1, []byte{0xa1, 1}, []byte{0xd1, 2, 0}, []byte{0x51, 'k'}),
		"ever twice":         binaryOf(1, append(laughs, []byte{0x51, 'x'})...),
		"a long chain":       binaryOf(2, append(chain, []byte{0x51, 'x'})...),
		"giant count":        binaryOf(1, []byte{0xaf, 0x13, 0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}),
		"giant string":       binaryOf(1, []byte{0x6f, 0x13, 0x80, 0, 0, 0, 0, 0, 0, 1}),
		"giant table": append(append([]byte("bplist00"), make([]byte, 8)...), 0, 0, 0, 0, 0, 0, 1, 1, 0xff, 0xff,
			0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 9),
		"deep elements": []byte(head + deep), "deep plain elements": []byte(head + deep + strings.Repeat("</array>",
			100000) + "</plist>"),
		"deep plists": []byte(strings.Repeat("<plist>", 100000)), "deep text": []byte(strings.Repeat("(", 1000000)),
		"an unknown element": []byte(head + "<tide/></plist>"),
	} {
		started := time.Now()
		_, err := Parse(b)
		require.Error(t, err, name)
		require.Less(t, time.Since(started), 5*time.Second, name) // it does not run away
	}
	require.ErrorIs(t, boundedBinary(binaryOf(1, []byte{0xa1, 0})), ErrTooDeep)
}

// FuzzParse: the fast reader agrees with the package wherever it reads at all,
// what was read is written and read again the same, and nothing crashes.
func FuzzParse(f *testing.F) {
	f.Add([]byte(job))
	f.Add(binaryOf(1, []byte{0xd1, 1, 2}, []byte{0x51, 'k'}, []byte{0x10, 7}))
	f.Add([]byte(`{ a = (b, c); }`))
	f.Add([]byte("{\"\\U0430\u0430\u00e0\" = \"\xff\xe0\"; }")) // the package panics when it writes such a text
	for _, element := range []string{"<real>1.5</real>", "<date>2026-03-14T09:26:53Z</date>", "<data>AQID</data>",
		"<integer>0x1f</integer>", "<string>a&#10;b</string>", "<string><![CDATA[x]]></string>",
		"<dict><key>CF$UID</key><integer>1</integer></dict>"} {
		head, _, _ := strings.Cut(job, "<dict>")
		f.Add(fmt.Appendf(nil, "%s%s</plist>", head, element))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if plain, ok := parsePlainXML(b); ok {
			general, _, err := parse(b)
			if err != nil {
				t.Fatalf("the fast reader accepts what the package does not: %v", err)
			}
			require.Equal(t, general, plain)
		}
		d, err := Parse(b)
		if err != nil {
			return
		}
		d.edited = true
		out, err := d.Bytes()
		if err != nil {
			return
		}
		again, err := Parse(out)
		require.NoError(t, err)
		require.Equal(t, d.Root, again.Root)
		require.Equal(t, d.Form, again.Form)
	})
}

// The fast reader against the package, on a job as the system's tools write it.
func BenchmarkParse(b *testing.B) {
	b.Run("plain", func(b *testing.B) {
		for b.Loop() {
			if _, ok := parsePlainXML([]byte(job)); !ok {
				b.Fatal("it is plain")
			}
		}
	})
	b.Run("package", func(b *testing.B) {
		for b.Loop() {
			if _, _, err := parse([]byte(job)); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// Core Foundation reads documents in other encodings, too.
func TestEncodings(t *testing.T) {
	const body = `<plist version="1.0"><dict><key>Label</key><string>gr\xfcn</string></dict></plist>`
	latin := strings.ReplaceAll(body, `\xfc`, "\xfc")
	wide := func(s string) []byte {
		var b []byte
		for _, c := range utf16.Encode([]rune(s)) {
			b = append(b, byte(c), byte(c>>8))
		}
		return b
	}
	utf := strings.ReplaceAll(body, `\xfc`, "\u00fc")
	for name, content := range map[string][]byte{
		"latin":      []byte(`<?xml version="1.0" encoding="ISO-8859-1"?>` + latin),
		"ascii":      []byte(`<?xml version='1.0' encoding='us-ascii'?>` + latin),
		"utf8":       []byte(`<?xml version="1.0" encoding="utf8"?>` + utf),
		"wide":       append([]byte{0xff, 0xfe}, wide(`<?xml version="1.0" encoding="UTF-16"?>`+utf)...),
		"wide, bare": wide(`<?xml version="1.0" encoding="UTF-16LE"?>` + utf),
	} {
		doc, err := Parse(content)
		require.NoError(t, err, name)
		require.Equal(t, "gr\u00fcn", doc.Dict().Text("Label"), name)
	}
}
