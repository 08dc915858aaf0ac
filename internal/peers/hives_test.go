package peers

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

var hiveTime = time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)

// dump is what our reader reads from a hive, in the form of [testkit.Export].
func dump(t *testing.T, h *regf.Hive) map[string]string {
	t.Helper()
	all := map[string]string{}
	var walk func(k *regf.Key, path string)
	walk = func(k *regf.Key, path string) {
		all[path] = "key"
		values, err := k.Values()
		require.NoError(t, err)
		for _, v := range values {
			all[path+"\x00"+v.Name] = testkit.Digest(uint32(v.Type), v.Data)
		}
		subs, err := k.Subkeys()
		require.NoError(t, err)
		for _, sub := range subs {
			walk(sub, path+sub.Name()+`\`)
		}
	}
	root, err := h.Root()
	require.NoError(t, err)
	walk(root, "")
	// The root's own path is a single backslash in an export.
	all[`\`] = all[""]
	delete(all, "")
	for name, data := range all {
		if rest, ok := strings.CutPrefix(name, "\x00"); ok {
			delete(all, name)
			all["\\\x00"+rest] = data
		}
	}
	return all
}

func openHive(t *testing.T, file string) *regf.Hive {
	t.Helper()
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	h, err := regf.Open(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	require.NoError(t, h.Unfinished())
	return h
}

func writeHive(t *testing.T, h *regf.Hive, file string) {
	t.Helper()
	h.Seal(hiveTime)
	var b bytes.Buffer
	_, err := h.WriteTo(&b)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
}

// names that every one of the readers prints so that they can be told apart.
var plainNames = []string{"Run", "Fogbell Sync", "it's", "a,b", "x=y", "[brackets]", "{5A17ABCD-1887-4001}", "percent%",
	"UPPER", "tab-less", "very " + strings.Repeat("long ", 40) + "name", "."}

// judge compares what all readers read from a hive with what we read.
func judge(t *testing.T, file string, when string) {
	t.Helper()
	ours := dump(t, openHive(t, file))
	require.Empty(t, testkit.Changed(testkit.Export(t, file), ours), "hivexregedit, %s", when)
	keys := 0
	byPath := map[string]bool{} // as the other readers write it, from the root
	for name, data := range ours {
		if data == "key" {
			keys++
			byPath[`\`+strings.Trim(name, `\`)] = true
		}
	}

	about := factsOfKeys(t, openHive(t, file)) // what else there is to a key

	// reglookup: a line for each, with %xx for what is special.
	out, err := exec.Command("reglookup", "-H", "-s", file).Output()
	require.NoError(t, err)
	seen, values := 0, 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Split(strings.TrimRight(line, "\n"), ",")
		require.GreaterOrEqual(t, len(fields), 8, line)
		path := unquotePercent(t, fields[0])
		if fields[1] == "KEY" {
			seen++
			require.True(t, byPath[strings.ReplaceAll(path, "/", `\`)], "reglookup has %q, %s", path, when)
			class := ""
			if len(fields) > 8 {
				class = unquotePercent(t, fields[8])
			}
			require.Equal(t, about[strings.ReplaceAll(path, "/", `\`)], keyFacts{fields[3], class, fields[4],
				fields[5]}, "reglookup, of %q, %s", path, when)
			continue
		}
		values++
		if fields[1] == "BINARY" {
			key, name := path[:strings.LastIndexByte(path, '/')], path[strings.LastIndexByte(path, '/')+1:]
			want, ok := ours[strings.ReplaceAll(strings.TrimPrefix(key, "/"), "/", `\`)+`\`+"\x00"+name]
			// It says nothing as (null), and sorts the pieces of big data by where
			// they lie instead of reading them in their order.
			if ok && fields[2] != "(null)" && len(want)/2 <= 16344 {
				require.Equal(t, want, "3:"+hex.EncodeToString([]byte(unquotePercent(t, fields[2]))), "reglookup, %s",
					when)
			}
		}
	}
	require.Equal(t, keys, seen, "reglookup's keys, %s", when)
	require.Equal(t, len(ours)-keys, values, "reglookup's values, %s", when)

	// regfexport: the paths, and the sizes of all data.
	out, err = exec.Command("regfexport", file).Output()
	require.NoError(t, err)
	seen, values = 0, 0
	bytesOf, links, classes := 0, 0, 0
	path := ""
	for line := range strings.Lines(string(out)) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, `Key path: `):
			seen++
			path = strings.TrimPrefix(line, `Key path: ROOT`)
			if path == "" {
				path = `\`
			}
			require.True(t, byPath[path], "regfexport has %q, %s", path, when)
		case strings.HasPrefix(line, "Class name: "):
			classes++
			require.Equal(t, about[path].class, strings.TrimPrefix(line, "Class name: "), "regfexport, of %q, %s", path,
				when)
		case strings.HasPrefix(line, "Type: symbolic link"):
			links++
		case strings.HasPrefix(line, "Value: "):
			values++
		case strings.HasPrefix(line, "Data size: "):
			n, err := strconv.Atoi(strings.TrimPrefix(line, "Data size: "))
			require.NoError(t, err)
			bytesOf += n
		}
	}
	want := 0
	for _, data := range ours {
		if _, digits, ok := strings.Cut(data, ":"); ok {
			want += len(digits) / 2
		}
	}
	require.Equal(t, keys, seen, "regfexport's keys, %s", when)
	require.Equal(t, len(ours)-keys, values, "regfexport's values, %s", when)
	require.Equal(t, want, bytesOf, "regfexport's bytes, %s", when)
	for name, data := range ours {
		if strings.HasPrefix(data, strconv.Itoa(int(regf.Link))+":") && name != "" {
			links--
		}
	}
	require.Zero(t, links, "regfexport's links, %s", when)
	for _, a := range about {
		if a.class != "" {
			classes--
		}
	}
	require.Zero(t, classes, "regfexport's classes, %s", when)

	// regtree: a line for each key and value.
	out, err = exec.Command("regtree", "-F", file).Output()
	require.NoError(t, err)
	lines := 0
	for line := range strings.Lines(string(out)) {
		if strings.TrimSpace(line) != "" {
			lines++
		}
	}
	require.Equal(t, len(ours)-1, lines, "regtree, %s", when)
}

// keyFacts are what there is to a key beside its name, as reglookup words it.
type keyFacts struct{ written, class, owner, group string }

// factsOfKeys tells of all keys of a hive, by their paths as the judges have them. Owner and group are taken out of the
// security descriptor here, by its layout in MS-DTYP 2.4.6, for our code keeps it as it is.
func factsOfKeys(t *testing.T, h *regf.Hive) map[string]keyFacts {
	t.Helper()
	sid := func(b []byte, at int) string {
		if at == 0 || at+8 > len(b) {
			return ""
		}
		text := fmt.Sprintf("S-%d-%d", b[at], b[at+7])
		for k := range int(b[at+1]) {
			text += fmt.Sprintf("-%d", binary.LittleEndian.Uint32(b[at+8+4*k:]))
		}
		return text
	}
	all := map[string]keyFacts{}
	var walk func(k *regf.Key, path string)
	walk = func(k *regf.Key, path string) {
		class, err := k.Class()
		require.NoError(t, err)
		security, err := k.Security()
		require.NoError(t, err)
		f := keyFacts{written: k.Modified().UTC().Format(time.DateTime), class: windata.Decode(class)}
		if len(security) >= 20 {
			f.owner, f.group = sid(security, int(binary.LittleEndian.Uint32(security[4:]))),
				sid(security, int(binary.LittleEndian.Uint32(security[8:])))
		}
		all[cmp.Or(path, `\`)] = f
		subs, err := k.Subkeys()
		require.NoError(t, err)
		for _, sub := range subs {
			walk(sub, path+`\`+sub.Name())
		}
	}
	root, err := h.Root()
	require.NoError(t, err)
	walk(root, "")
	return all
}

// descriptor is a self-relative security descriptor with an owner, a group, and all rights for the owner.
func descriptor(owner, group byte) []byte {
	sid := func(id byte) []byte { return []byte{1, 1, 0, 0, 0, 0, 0, 5, id, 0, 0, 0} }
	b := []byte{1, 0, 4, 0x80, 20, 0, 0, 0, 32, 0, 0, 0, 0, 0, 0, 0, 44, 0, 0, 0}
	b = append(append(b, sid(owner)...), sid(group)...)
	return append(append(b, 2, 0, 28, 0, 1, 0, 0, 0, 0, 0, 20, 0, 0x3f, 0, 0x0f, 0), sid(owner)...)
}

func unquotePercent(t *testing.T, s string) string {
	t.Helper()
	var b strings.Builder
	for k := 0; k < len(s); k++ {
		if s[k] != '%' {
			b.WriteByte(s[k])
			continue
		}
		n, err := strconv.ParseUint(s[k+1:k+3], 16, 8)
		require.NoError(t, err)
		b.WriteByte(byte(n))
		k += 2
	}
	return b.String()
}

// edit makes one random change to a hive.
func edit(t *testing.T, r *rand.Rand, h *regf.Hive, names []string) {
	t.Helper()
	k, err := h.Root()
	require.NoError(t, err)
	depth := 0
	for ; depth < 4 && r.IntN(4) > 0; depth++ {
		subs, err := k.Subkeys()
		require.NoError(t, err)
		if len(subs) == 0 {
			break
		}
		k = subs[r.IntN(len(subs))]
	}
	name := names[r.IntN(len(names))]
	if r.IntN(2) == 0 {
		name = fmt.Sprintf("%s %d", name, r.IntN(300))
	}
	switch r.IntN(14) {
	case 10:
		require.NoError(t, h.SetTime(k, hiveTime.Add(-time.Duration(r.Int64N(int64(20*365*24*time.Hour)))).Truncate(
			100)))
	case 11:
		class := windata.Encode(strings.Repeat("class ", r.IntN(5)) + strconv.Itoa(r.IntN(10)))
		require.NoError(t, h.SetClass(k, class))
	case 12:
		require.NoError(t, h.SetSecurity(k, descriptor(18+byte(r.IntN(3)), 18+byte(r.IntN(3)))))
	case 13:
		require.NoError(t, h.SetValue(k, regf.Value{Name: "SymbolicLinkValue", Type: regf.Link,
			Data: windata.Encode(`\Registry\Machine\` + name)}))
	case 0, 1, 2, 3:
		sizes := []int{0, 2, 4, 6, 100, 2000}
		if r.IntN(20) == 0 {
			sizes = []int{16344, 16400, 50000}
		}
		v := regf.Value{Name: name, Type: regf.Binary, Data: make([]byte, sizes[r.IntN(len(sizes))])}
		for n := range v.Data {
			v.Data[n] = byte(r.Uint32())
		}
		switch r.IntN(4) {
		case 0:
			v = regf.NewText(name, `C:\Program Files\`+names[r.IntN(len(names))])
		case 1:
			v = regf.NewNumber(name, r.Uint32())
		case 2:
			v = regf.NewList(name, "one", "two")
		}
		require.NoError(t, h.SetValue(k, v))
	case 4, 5, 6, 7:
		if _, err := k.Subkey(name); err != nil {
			_, err = h.CreateKey(k, name, nil, hiveTime)
			require.NoError(t, err)
		}
	case 8:
		values, err := k.Values()
		require.NoError(t, err)
		if len(values) > 0 {
			require.NoError(t, h.DeleteValue(k, values[r.IntN(len(values))].Name))
		}
	default:
		if depth > 2 {
			require.NoError(t, h.DeleteKey(k))
		}
	}
}

func TestHivesAfterRandomEdits(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "hivexregedit", "reglookup", "regfexport", "regtree")
	rounds := draw.Count(60)
	file := filepath.Join(t.TempDir(), "hive")
	r := draw.Source(t)
	writeHive(t, regf.Create(make([]byte, 20), hiveTime), file)
	for n := range rounds {
		h := openHive(t, file)
		// At first many edits lie between two judgements, for the hive to
		// grow; then one.
		for range max(1, 40-n) {
			edit(t, r, h, plainNames)
		}
		writeHive(t, h, file)
		judge(t, file, fmt.Sprintf("round %d", n))
	}
}

// TestHivesOfHivex reads and edits what another program made: thousands of keys,
// names of all scripts, all types, big data.
func TestHivesOfHivex(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "hivexregedit")
	file, text := filepath.Join(t.TempDir(), "hive"), filepath.Join(t.TempDir(), "merge.reg")
	writeHive(t, regf.Create(make([]byte, 20), hiveTime), file)
	r := rand.New(rand.NewPCG(2, 71))
	odd := []string{"Größe", "τιμή", "岬の灯台", "ﾊﾝｶｸ", "🜂fire", "İi", "\u202ertl", "a\tb", "Ünïcödé", "e\u0301"}
	want := map[string]string{}
	var b strings.Builder
	b.WriteString("Windows Registry Editor Version 5.00\n")
	for n := range 3000 {
		path := fmt.Sprintf(`%s\%s %d`, append(plainNames, odd...)[r.IntN(len(plainNames)+len(odd))],
			odd[r.IntN(len(odd))], n)
		if parent := path[:strings.IndexByte(path, '\\')+1]; want[parent] == "" {
			want[parent] = "key"
			fmt.Fprintf(&b, "\n[\\%s]\n", strings.TrimSuffix(parent, `\`))
		}
		fmt.Fprintf(&b, "\n[\\%s]\n", path)
		want[path+`\`] = "key"
		for k := range r.IntN(4) {
			name := fmt.Sprintf("%s %d", odd[r.IntN(len(odd))], k)
			data := make([]byte, []int{0, 3, 4, 5, 300}[r.IntN(5)])
			if n%500 == 0 {
				data = make([]byte, 20000)
			}
			for k := range data {
				data[k] = byte(r.Uint32())
			}
			kind := uint32(r.IntN(12))
			if kind == 4 { // merging has a form of its own for numbers
				kind = 3
			}
			fmt.Fprintf(&b, "\"%s\"=hex(%x):%s\n", name, kind, commas(data))
			want[path+`\`+"\x00"+name] = testkit.Digest(kind, data)
		}
	}
	require.NoError(t, os.WriteFile(text, []byte(b.String()), 0o600))
	out, err := exec.Command("hivexregedit", "--merge", "--encoding", "UTF-16LE", file, text).CombinedOutput()
	require.NoError(t, err, "%s", out)
	want[`\`] = "key"
	h := openHive(t, file)
	require.Empty(t, testkit.Changed(want, dump(t, h)))
	for key := range want { // names are found whatever their case
		if want[key] == "key" {
			_, err := h.Key(strings.ToUpper(strings.Trim(key, `\`)))
			require.NoError(t, err, "%q", key)
		}
	}
	for range 400 {
		edit(t, r, h, append(odd, plainNames...))
	}
	writeHive(t, h, file)
	require.Empty(t, testkit.Changed(testkit.Export(t, file), dump(t, openHive(t, file))))
	// And back: what hivex changes in our hive, we read.
	require.NoError(t, os.WriteFile(text, []byte("Windows Registry Editor Version 5.00\n\n[\\Added by "+
		"another]\n\"x\"=dword:00000007\n"), 0o600))
	out, err = exec.Command("hivexregedit", "--merge", file, text).CombinedOutput()
	require.NoError(t, err, "%s", out)
	k, err := openHive(t, file).Key("Added by another")
	require.NoError(t, err)
	v, err := k.Value("X")
	require.NoError(t, err)
	require.Equal(t, "REG_DWORD 7", v.String())
}

func commas(data []byte) string {
	words := make([]string, len(data))
	for k, c := range data {
		words[k] = fmt.Sprintf("%02x", c)
	}
	return strings.Join(words, ",")
}
