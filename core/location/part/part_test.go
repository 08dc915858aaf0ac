package part

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
	"lockback/core/format/regf"
	"lockback/core/machine/artifact"
)

var (
	at     = time.Unix(2_000_000_000, 0)
	absent = artifact.Image{Kind: artifact.Absent}
)

func file(s string) artifact.Image {
	return artifact.NewFile([]byte(s), 0o640, 1, 2, time.Unix(1, 0))
}

// images are those of a plan.
type images map[string]artifact.Image

func (i images) Image(a artifact.Artifact) (artifact.Image, error) {
	if image, ok := i[a.Name]; ok {
		return image, nil
	}
	return absent, nil
}

func TestCarryLines(t *testing.T) {
	for name, c := range map[string]struct {
		into, from string
		number     int
		want       string
	}{
		"behind the line before it":     {"x\nnew\n", "x\ny\n", 2, "x\ny\nnew\n"},
		"before the line behind it":     {"new\nz\n", "y\nz\n", 1, "new\ny\nz\n"},
		"at the end":                    {"a\nb\n", "x\ny\n", 2, "a\nb\ny\n"},
		"blank lines are no neighbours": {"\na\n", "x\n\ny\n", 3, "\na\ny\n"},
		"there already":                 {"a\ny\nb\n", "x\ny\n", 2, "a\ny\nb\n"},
		"turned off there":              {"a\n#lockback:off y\nb\n", "x\ny\n", 2, "a\ny\nb\n"},
		"turned off earlier":            {"a\ny\nb\n", "x\n#lockback:off y\n", 2, "a\n#lockback:off y\nb\n"},
		"the second of two":             {"y\nq\n#lockback:off y\n", "y\ny\n", 2, "y\nq\ny\n"},
		"one more of the same":          {"y\nq\n", "y\ny\n", 2, "y\ny\nq\n"},
		"now without an end":            {"a", "x\n", 1, "a\nx\n"},
		"earlier without an end":        {"a\n", "x", 1, "a\nx\n"},
		"into nothing":                  {"", "x\n", 1, "x\n"},
		"a part of a longer line":       {"xyz\n", "y\n", 1, "xyz\ny\n"},
		"not in the earlier file":       {"a\nb\nc\n", "a\n", 2, "a\nc\n"},
	} {
		l := Line{File: "/t", Number: c.number}
		got, err := l.Carry(images{}, file(c.into), file(c.from), at)
		require.NoError(t, err, name)
		require.Equal(t, c.want, string(got.Content), name)
		require.EqualValues(t, 0o640, got.Mode)
	}
	got, err := Line{File: "/t", Number: 2}.Carry(images{}, file("#lockback:off a\nb\n"), file("a\nb\n"), at)
	require.NoError(t, err)
	require.Equal(t, "#lockback:off a\nb\n", string(got.Content))
	require.Equal(t, file("").ModTime, got.ModTime, "nothing changed")
	got, err = Line{File: "/t", Number: 1}.Carry(images{}, file("#lockback:off a\nb\n"), file("a\nb\n"), at)
	require.NoError(t, err)
	require.Equal(t, file("a\nb\n"), got, "all is as it was, to the time")
	got, err = Line{File: "/t", Number: 2}.Carry(images{}, absent, file("a\nb\n"), at)
	require.NoError(t, err)
	require.Equal(t, "b\n", string(got.Content), "the file was deleted")
	_, err = Line{File: "/t", Number: 3}.Carry(images{}, file("a\n"), file("x\n"), at)
	require.Error(t, err)
	_, err = Line{File: "/t", Number: 1}.Carry(images{}, artifact.NewFolder(0, 0, 0), file("x\n"), at)
	require.Error(t, err)
}

// A line of a vendor's file, over which a copy stands while it is off.
func TestCarryVendorsLines(t *testing.T) {
	vendor := artifact.NewFile([]byte("a\nb\n"), 0o644, 0, 0, time.Unix(1, 0))
	l := Line{File: "/etc/m.conf", Number: 2, Vendor: "/usr/lib/m.conf"}
	carry := func(disk images, into, from artifact.Image) artifact.Image {
		image, err := l.Carry(disk, into, from, at)
		require.NoError(t, err)
		return image
	}
	disk := images{"/usr/lib/m.conf": vendor}
	off := carry(disk, absent, file("a\n#lockback:off b\n"))
	require.Equal(t, "a\n#lockback:off b\n", string(off.Content))
	require.Equal(t, absent, carry(disk, off, absent), "a copy that is like the vendor's goes")
	require.Equal(t, absent, carry(disk, off, file("#lockback:off a\nb\n")),
		"even where the copy of then said something else of another line")
	other := file("#lockback:off a\n#lockback:off b\n")
	require.Equal(t, "#lockback:off a\nb\n", string(carry(disk, other, absent).Content), "a stranger's line stays off")
	// The vendor's file has more lines by now.
	disk["/usr/lib/m.conf"] = artifact.NewFile([]byte("a\nb\nc\n"), 0o644, 0, 0, time.Unix(9, 0))
	require.Equal(t, "a\n#lockback:off b\nc\n", string(carry(disk, absent, off).Content))
}

func TestCarryItems(t *testing.T) {
	value := func(text string) artifact.Image { return artifact.NewValue(regf.NewText("", text)) }
	list := func(items ...string) artifact.Image { return artifact.NewValue(regf.NewList("", items...)) }
	for name, c := range map[string]struct {
		into, from artifact.Image
		item       string
		want       artifact.Image
	}{
		"back among others": {value("explorer.exe,kiosk.exe"), value("explorer.exe,tuner.exe"), "tuner.exe",
			value("explorer.exe,tuner.exe,kiosk.exe")},
		"behind others": {value("kiosk.exe"), value("explorer.exe, tuner.exe"), "tuner.exe",
			value("kiosk.exe,tuner.exe")},
		"before others":      {value(" b.exe,c.exe,"), value("a.exe,b.exe"), "a.exe", value("a.exe, b.exe,c.exe,")},
		"behind a separator": {value("a.exe,"), value("a.exe,b.exe,c.exe"), "b.exe", value("a.exe,b.exe,")},
		"quoted": {value(`"x,y.exe"`), value(`"x,y.exe",z.exe,q.exe`), "z.exe",
			value(`"x,y.exe",z.exe`)},
		"exactly as it was": {value("explorer.exe"), value("explorer.exe , tuner.exe"), "tuner.exe",
			value("explorer.exe , tuner.exe")},
		"gone again": {value("explorer.exe,tuner.exe,kiosk.exe"), value("explorer.exe"), "tuner.exe",
			value("explorer.exe,kiosk.exe")},
		"there in both": {value("tuner.exe,kiosk.exe"), value("tuner.exe"), "tuner.exe",
			value("tuner.exe,kiosk.exe")},
		"into nothing": {absent, value("a.exe,b.exe"), "b.exe", value("b.exe")},
		"of a list": {list("scecli", "kiosk"), list("scecli", "tide"), "tide", list("scecli", "tide",
			"kiosk")},
		"out of a list":          {list("scecli", "tide", "kiosk"), absent, "tide", list("scecli", "kiosk")},
		"a list into nothing":    {absent, list("scecli", "tide"), "tide", list("tide")},
		"the only one of a list": {list("tide"), absent, "tide", absent},
	} {
		item := Item{Key: `HKLM\SOFTWARE\T`, Value: "Shell", Text: c.item, Separators: ","}
		if c.into.Type == uint32(regf.MultiString) || c.from.Type == uint32(regf.MultiString) {
			item.Separators = ""
		}
		got, err := item.Carry(images{}, c.into, c.from, at)
		require.NoError(t, err, name)
		require.Equal(t, c.want.String(), got.String(), name)
	}
	_, err := Item{Text: "b", Separators: ","}.Carry(images{}, list("a"), value("a,b"), at)
	require.ErrorContains(t, err, "another type")
}

func TestCuttingItems(t *testing.T) {
	for _, c := range []struct {
		text, separators string
		items            []string
		cut              []string // what is left when each is cut
	}{
		{`explorer.exe, C:\x y.exe /a`, ",", []string{"explorer.exe", `C:\x y.exe /a`}, []string{` C:\x y.exe /a`,
			"explorer.exe"}},
		{`C:\Windows\system32\userinit.exe,`, ",", []string{`C:\Windows\system32\userinit.exe`}, []string{"none"}},
		{`a.exe,b.exe,`, ",", []string{"a.exe", "b.exe"}, []string{"b.exe,", "a.exe,"}},
		{`"a, b.dll" c.dll`, ", ", []string{`"a, b.dll"`, "c.dll"}, []string{"c.dll", `"a, b.dll"`}},
		{`one`, ",", []string{"one"}, []string{"none"}},
		{` ,, one ,two`, ",", []string{"one", "two"}, []string{" ,,two", " ,, one"}},
	} {
		require.Equal(t, c.items, SplitList(regf.NewText("", c.text), c.separators), c.text)
		for k, want := range c.cut {
			require.Equal(t, want, cutItem(c.text, c.separators, k, "none"), "%s without %d", c.text, k)
		}
	}
}

// The system's own item stays where the last other one goes.
func TestCutLeavesTheDefault(t *testing.T) {
	image := Item{Text: "tide"}.Cut(artifact.NewValue(regf.NewList("", "tide")), "autocheck")
	require.Equal(t, []string{"autocheck"}, image.Value().Strings())
	image = Item{Text: "tide.exe", Separators: ","}.Cut(artifact.NewValue(regf.NewText("", "tide.exe,")),
		"explorer.exe")
	require.Equal(t, "explorer.exe", image.Value().Text())
	image = Item{Text: "tide"}.Cut(artifact.NewValue(regf.NewList("", "other")), "autocheck")
	require.Equal(t, []string{"other"}, image.Value().Strings())
}

func TestCarryProperties(t *testing.T) {
	doc := func(root map[string]any) artifact.Image {
		content, err := plist.New(root).Bytes()
		require.NoError(t, err)
		return file(string(content))
	}
	root := func(i artifact.Image) map[string]any {
		d, err := plist.Parse(i.Content)
		require.NoError(t, err)
		return d.Dict()
	}
	type dict = map[string]any
	carry := func(p Property, into, from artifact.Image) artifact.Image {
		image, err := p.Carry(images{}, into, from, at)
		require.NoError(t, err)
		return image
	}
	label := Property{File: "/db", Path: []string{"tide"}, States: true}
	mine, theirs := doc(dict{"tide": true}), doc(dict{"tide": false, "kiosk": true})
	require.Equal(t, dict{"tide": true, "kiosk": true}, root(carry(label, theirs, mine)))
	require.Equal(t, dict{"kiosk": true}, root(carry(label, theirs, absent)))
	require.Equal(t, mine, carry(label, absent, mine), "to the byte and its time")
	require.Equal(t, mine, carry(label, mine, doc(dict{"tide": true, "more": true})), "nothing to do")
	deep := Property{File: "/db", Path: []string{"tide", "Disabled"}}
	require.Equal(t, dict{"tide": dict{"Disabled": true, "x": "y"}}, root(carry(deep, doc(dict{"tide": dict{"x": "y"}}),
		doc(dict{"tide": dict{"Disabled": true}}))))

	app := func(p string) any { return dict{"Path": p} }
	item, err := NewElement("/db", []string{"Apps"}, app("/b"))
	require.NoError(t, err)
	apps := func(paths ...string) artifact.Image {
		var all []any
		for _, p := range paths {
			all = append(all, app(p))
		}
		return doc(dict{"Apps": all, "other": "kept"})
	}
	require.Equal(t, root(apps("/a", "/b", "/kiosk")), root(carry(item, apps("/a", "/kiosk"), apps("/a", "/b", "/c"))))
	require.Equal(t, root(apps("/kiosk")), root(carry(item, apps("/b", "/kiosk"), apps("/c"))))
	without, ok, err := item.Without(apps("/a", "/b"), at)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, root(apps("/a")), root(without))
	_, ok, err = item.Without(apps("/a"), at)
	require.NoError(t, err)
	require.False(t, ok)
	_, err = label.Carry(images{}, file("nonsense"), mine, at)
	require.Error(t, err)
	_, err = label.Carry(images{}, artifact.NewLink("/x", 0, 0, at), mine, at)
	require.Error(t, err)
}

// A part that stands otherwise now gives way to the one of the record.
func TestReplace(t *testing.T) {
	earlier, now := file("x\n@daily /tide\n"), file("x\nnew\n@hourly /tide\n")
	own := Line{File: "/t", Number: 2}
	image, err := Replace(images{}, own, NewLine("/t", 3, "@hourly /tide\n"), now, earlier, at)
	require.NoError(t, err)
	require.Equal(t, "x\n@daily /tide\nnew\n", string(image.Content))
	moved := file("new\nx\n#lockback:off @daily /tide\n")
	image, err = Replace(images{}, own, NewLine("/t", 3, "#lockback:off @daily /tide\n"), moved, earlier, at)
	require.NoError(t, err)
	require.Equal(t, "new\nx\n@daily /tide\n", string(image.Content), "one that is the same stays where it stands")
}

func TestMergeKeepsNewcomers(t *testing.T) {
	value := func(text string) artifact.Image { return artifact.NewValue(regf.NewText("", text)) }
	kiosk := Item{Key: `HKLM\SOFTWARE\T`, Value: "Shell", Text: "kiosk.exe", Separators: ","}
	merged, err := Merge(images{}, value("explorer.exe,tuner.exe"), value("explorer.exe,kiosk.exe"),
		Shares{Newcomers: []Part{kiosk}}, at)
	require.NoError(t, err)
	require.Equal(t, "explorer.exe,kiosk.exe,tuner.exe", merged.Image.Value().Text())
	merged, err = Merge(images{}, file("a\nb\n"), file("# mine\n#lockback:off a\nb2\nnew\n"),
		Shares{Known: []Part{NewLine("/t", 2, "a"), NewLine("/t", 3, "b2")}}, at)
	require.NoError(t, err)
	require.Equal(t, "# mine\na\nnew\nb\n", string(merged.Image.Content))
	require.Equal(t, []string{"# mine", "new"}, merged.Kept)
	doc := func(root map[string]any) artifact.Image {
		content, err := plist.New(root).Bytes()
		require.NoError(t, err)
		return file(string(content))
	}
	label := func(name string) Part { return Property{File: "/db", Path: []string{name}, States: true} }
	merged, err = Merge(images{}, doc(map[string]any{"a": true}), doc(map[string]any{"a": false, "gone": true,
		"b": true, "mine": true}),
		Shares{Known: []Part{label("a"), label("b")}, Earlier: func() []Part { return []Part{label("gone")} }}, at)
	require.NoError(t, err)
	require.Equal(t, doc(map[string]any{"a": true, "mine": true}).Content, merged.Image.Content)
	require.Equal(t, []string{"mine"}, merged.Kept)
}

func TestPartsAreRecorded(t *testing.T) {
	element, err := NewElement("/db", []string{"Apps"}, map[string]any{"Path": "/b"})
	require.NoError(t, err)
	for _, p := range []Part{Line{File: "/etc/cron.d/a \xff\"b", Number: 12}, Line{File: "/etc/m", Number: 1,
		Vendor: "/usr/lib/m"}, element,
		Item{Key: `HKLM\K`, Value: "V", Text: "a,b", Separators: ", "}, Property{File: "/db", Path: []string{"a b"},
			States: true}} {
		back, err := Decode(Encode(p))
		require.NoError(t, err)
		require.Equal(t, p, back)
	}
	p, err := Decode("")
	require.NoError(t, err)
	require.Nil(t, p)
	require.Empty(t, Encode(nil))
	later, err := Decode("verse 7")
	require.NoError(t, err)
	require.Equal(t, "verse 7", Encode(later))
	_, err = later.Carry(images{}, absent, absent, at)
	require.ErrorContains(t, err, "later version")
	for _, damaged := range []string{"line", "line x", `line 0 "/t"`, `line -3 "/t"`, "line 1 x", `line 1 "a" b`,
		"item {", "property 7", `property {"file":"/db"}`} {
		_, err := Decode(damaged)
		require.Error(t, err, damaged)
	}
}

// Whatever a file or a value holds: what is carried over and back leaves strangers alone.
func FuzzCarry(f *testing.F) {
	f.Add("a\nb\n", "a\n#lockback:off b\nc", 2, "line 1 \"/x\"")
	f.Add("explorer.exe,x.exe", "a.exe, b.exe", 1, `item {"text":"a.exe","separators":","}`)
	f.Add("<plist><dict><key>a</key><true/></dict></plist>", "<plist><dict/></plist>", 1,
		`property {"file":"/db","path":["a"]}`)
	f.Add("<plist><dict/></plist>", "<plist><dict/></plist>", 1, `property {"file":"/db","path":[]}`)
	f.Fuzz(func(t *testing.T, into, from string, number int, recorded string) {
		// A record can be somebody's claim: whatever it says, nothing ends the program.
		if p, err := Decode(recorded); err == nil && p != nil {
			for _, i := range [][2]artifact.Image{{file(into), file(from)}, {absent, file(from)}, {file(into), absent},
				{artifact.NewValue(regf.NewText("", into)), artifact.NewValue(regf.NewList("", from))}} {
				Replace(images{}, p, NewLine("/t", 1+number&0xff, from), i[0], i[1], at)
				p.Without(i[0], at)
				Merge(images{}, i[1], i[0], Shares{Known: []Part{p}, Earlier: func() []Part { return []Part{p} }}, at)
			}
		}
		l := Line{File: "/t", Number: 1 + number&0xff}
		theirLines := Line{}.split([]byte(from))
		blank := l.Number > len(theirLines) || strings.TrimSpace(lineKey(theirLines[l.Number-1])) == ""
		// Of lines that are alike, one more can come each time until all are there.
		alone := !blank && nth(theirLines, lineKey(theirLines[l.Number-1]), 1) < 0
		if image, err := l.Carry(images{}, file(into), file(from), at); err == nil && alone {
			again, err := l.Carry(images{}, image, file(from), at)
			require.NoError(t, err)
			require.Equal(t, string(image.Content), string(again.Content))
		}
		Merge(images{}, file(from), file(into), Shares{Newcomers: []Part{l}}, at)
		value := func(text string) artifact.Image { return artifact.NewValue(regf.NewText("", text)) }
		theirs := SplitList(value(from).Value(), ",")
		if len(theirs) == 0 || strings.ContainsRune(from+into, '"') || strings.ContainsRune(from+into, 0) {
			return
		}
		item := Item{Text: theirs[0], Separators: ","}
		image, err := item.Carry(images{}, value(into), value(from), at)
		require.NoError(t, err)
		require.Contains(t, SplitList(image.Value(), ","), item.Text)
		for _, other := range SplitList(value(into).Value(), ",") {
			require.Contains(t, SplitList(image.Value(), ","), other)
		}
		for k := range theirs {
			require.Len(t, SplitList(value(cutItem(value(from).Value().Text(), ",", k, "")).Value(), ","),
				len(theirs)-1, "%q without %d", from, k)
		}
	})
}

// A line that goes on in others is turned off with all of them, and on again, to the byte.
// A part of lines that go on in the next has the numbers of all of them.
func TestNumbersOfJoinedLines(t *testing.T) {
	const content = "first\n@reboot a \\\n  b \\\n  c\nlast\n"
	require.Equal(t, []int{2, 3, 4}, NewJoined("/f", 2, "@reboot a \\\n  b \\\n  c\n").numbers([]byte(content)))
	require.Equal(t, []int{1}, NewJoined("/f", 1, "first\n").numbers([]byte(content)))
}

func FuzzJoined(f *testing.F) {
	for _, content := range []string{"a \\\n b\nc\n", "# x \\\na\n", "a \\\n# between\n  b",
		"#lockback:off a \\\n#lockback:off b\n", "\\\n\\\n", "a \\\r\n b\r\n"} {
		f.Add(content, 1)
	}
	f.Fuzz(func(t *testing.T, content string, number int) {
		var whole []byte
		at, group := 1, []byte(nil)
		for g := range JoinedLines([]byte(content)) {
			if whole = append(whole, g...); at == number {
				group = g
			}
			at += lineCount(g)
		}
		require.Equal(t, content, string(whole), "nothing is lost")
		if group == nil || bytes.Contains(group, []byte(OffMark)) || bytes.HasPrefix(bytes.TrimLeft(group, " \t"),
			[]byte("#")) || len(bytes.TrimSpace(group)) == 0 {
			return
		}
		line := NewJoined("/f", number, string(group))
		image := artifact.Image{Kind: artifact.Regular, Content: []byte(content)}
		off, there, err := Mark(nothing{}, image, []Line{line}, true, time.Time{})
		require.NoError(t, err)
		require.True(t, there[0])
		require.Equal(t, strings.Count(content, OffMark)+lineCount(group), strings.Count(string(off.Content), OffMark),
			"each line has its mark")
		on, there, err := Mark(nothing{}, off, []Line{line}, false, time.Time{})
		require.NoError(t, err)
		require.True(t, there[0])
		require.Equal(t, content, string(on.Content))
		back, err := line.Carry(nothing{}, off, image, time.Time{})
		require.NoError(t, err)
		require.Equal(t, content, string(back.Content))
	})
}

// nothing has no images.
type nothing struct{}

func (nothing) Image(artifact.Artifact) (artifact.Image, error) { return artifact.Image{}, nil }

// A setting of one block is set, and carried back, and no other block is touched.
func TestSettings(t *testing.T) {
	const file = "# head\nservice tide\n{\n\tserver = a\n}\nservice tide {\n\tdisable = no\n\tserver = " +
		"b\n}\nservice bell\n{\n\tdisable\t= no\n}"
	image := func(text string) artifact.Image { return artifact.Image{Kind: artifact.Regular, Content: []byte(text)} }
	first, second := Setting{File: "/x", Head: "service tide", Key: "disable"},
		Setting{File: "/x", Head: "service tide", Nth: 1, Key: "disable"}
	_, set := first.Value([]byte(file))
	require.False(t, set)
	value, set := second.Value([]byte(file))
	require.True(t, set)
	require.Equal(t, "no", value)
	set1 := func(s Setting, in artifact.Image) artifact.Image {
		out, there := SetAll(in, []Setting{s}, "\tdisable = yes", time.Time{})
		require.Equal(t, []bool{true}, there)
		return out
	}
	a := set1(first, image(file))
	require.Equal(t, strings.Replace(file, "{\n\tserver = a", "{\n\tdisable = yes\n\tserver = a", 1), string(a.Content))
	b := set1(second, a)
	both, there := SetAll(image(file), []Setting{second, {File: "/x", Head: "service none", Key: "disable"}, first},
		"\tdisable = yes", time.Time{})
	require.Equal(t, []bool{true, false, true}, there)
	require.Equal(t, string(b.Content), string(both.Content), "all in one pass")
	back, err := first.Carry(nothing{}, b, image(file), time.Time{})
	require.NoError(t, err)
	require.Equal(t, strings.Replace(file, "\tdisable = no\n\tserver = b", "\tdisable = yes\n\tserver = b", 1),
		string(back.Content), "the other one stays off")
	back, err = second.Carry(nothing{}, back, image(file), time.Time{})
	require.NoError(t, err)
	require.Equal(t, file, string(back.Content))
	_, err = Setting{File: "/x", Head: "service bell", Key: "disable"}.Carry(nothing{}, image("service other\n{\n}\n"),
		image(file), time.Time{})
	require.ErrorContains(t, err, "has no service bell")
	same, err := Setting{File: "/x", Head: "service none", Key: "disable"}.Carry(nothing{}, image(file), image(file),
		time.Time{})
	require.NoError(t, err)
	require.Equal(t, file, string(same.Content), "in neither")
	without, ok, err := second.Without(image(file), time.Time{})
	require.True(t, ok && err == nil)
	require.Equal(t, strings.Replace(file, "\tdisable = no\n\tserver = b", "\tserver = b", 1), string(without.Content))
	decoded, err := Decode(Encode(second))
	require.NoError(t, err)
	require.Equal(t, second, decoded)
	ini := "[Module-tide]\nautoload=false\n[Module-bell]\n"
	value, set = Setting{Head: "[Module-tide]", Key: "autoload"}.Value([]byte(ini))
	require.Equal(t, []any{"false", true}, []any{value, set})
	_, set = Setting{Head: "[Module-bell]", Key: "autoload"}.Value([]byte(ini))
	require.False(t, set)
}

// An item of a list in a file is taken out and comes back to its place, whatever others do meanwhile.
func FuzzWord(f *testing.F) {
	for _, content := range []string{"/a.so /b.so:/c.so\n", "# one\n/a.so\n/a.so # two\n", "/a", "", " : \n/a.so:\n"} {
		f.Add(content, 0, "/x.so\n")
	}
	f.Fuzz(func(t *testing.T, content string, n int, added string) {
		words := Words([]byte(content))
		if n < 0 || n >= len(words) {
			return
		}
		w := Word{File: "/f", Text: words[n]}
		image := func(text string) artifact.Image {
			return artifact.Image{Kind: artifact.Regular,
				Content: []byte(text)}
		}
		without, ok, err := w.Without(image(content), time.Time{})
		require.True(t, ok && err == nil)
		require.Equal(t, slices.DeleteFunc(slices.Clone(words), func(other string) bool { return other == w.Text }),
			append([]string{}, Words(without.Content)...), "only it")
		back, err := w.Carry(nothing{}, without, image(content), time.Time{})
		require.NoError(t, err)
		require.Equal(t, content, string(back.Content))
		changed := append(without.Content, "\n"+added...)
		after, err := w.Carry(nothing{}, image(string(changed)), image(content), time.Time{})
		require.NoError(t, err)
		require.GreaterOrEqual(t, w.find(after.Content, wordSpans(after.Content)), 0)
		require.GreaterOrEqual(t, len(Words(after.Content)), len(Words(changed)), "nobody else's goes")
		decoded, err := Decode(Encode(w))
		require.NoError(t, err)
		if utf8.ValidString(w.Text) {
			require.Equal(t, w, decoded)
		}
	})
}
