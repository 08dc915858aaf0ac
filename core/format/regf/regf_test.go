package regf

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/windata"
	"lockback/internal/testkit/draw"
)

var made = time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)

// reopened writes a hive and opens what was written.
func reopened(t testing.TB, h *Hive, logs ...Source) (*Hive, []byte) {
	t.Helper()
	var file bytes.Buffer
	h.Seal(made)
	n, err := h.WriteTo(&file)
	require.NoError(t, err)
	require.EqualValues(t, file.Len(), n)
	again, err := OpenWithLogs(bytes.NewReader(file.Bytes()), int64(file.Len()), logs...)
	require.NoError(t, err)
	return again, file.Bytes()
}

// tree is a hive as maps, the model that the random edits are held to.
type tree struct {
	values map[string]Value
	keys   map[string]*tree
}

func newTree() *tree { return &tree{map[string]Value{}, map[string]*tree{}} }

func (m *tree) check(t *testing.T, k *Key, path string) {
	t.Helper()
	values, err := k.Values()
	require.NoError(t, err)
	require.Len(t, values, len(m.values), path)
	for _, v := range values {
		want, ok := m.values[fold(v.Name)]
		require.True(t, ok, "%s: %q", path, v.Name)
		require.Equal(t, want.Type, v.Type)
		require.True(t, bytes.Equal(want.Data, v.Data), "%s: %q", path, v.Name)
	}
	subs, err := k.Subkeys()
	require.NoError(t, err)
	require.Len(t, subs, len(m.keys), path)
	require.True(t, slices.IsSortedFunc(subs, func(a, b *Key) int { return compareNames(a.Name(), b.Name()) }), path)
	for _, sub := range subs {
		require.Contains(t, m.keys, fold(sub.Name()), path)
		again, err := k.Subkey(fold(sub.Name()))
		require.NoError(t, err)
		require.Equal(t, sub.at, again.at)
		m.keys[fold(sub.Name())].check(t, sub, path+`\`+sub.Name())
	}
}

// oddNames are what names of keys and values are drawn from.
func oddName(r *rand.Rand) string {
	odd := []string{"Fogbell", "fogbell ", "Größe", "τιμή", "岬の灯台", "a\x00b", "\xed\xa0\x80x", "%PATH%", "\"quoted\"",
		"🜂fire", "ß", "line\nbreak", "\u202ertl"}
	if r.IntN(3) == 0 {
		return odd[r.IntN(len(odd))]
	}
	return fmt.Sprintf("%s-%d", odd[r.IntN(2)], r.IntN(4000))
}

func TestRandomEdits(t *testing.T) {
	for _, seed := range draw.Seeds(t, 6) {
		r := rand.New(rand.NewPCG(seed, 7))
		h := Create(bytes.Repeat([]byte{1}, 40), made)
		model := newTree()
		edits := 3000
		for n := range edits {
			m := model
			k, err := h.Root()
			require.NoError(t, err)
			for len(m.keys) > 0 && r.IntN(3) > 0 {
				names := make([]string, 0, len(m.keys))
				for name := range m.keys {
					names = append(names, name)
				}
				slices.Sort(names)
				name := names[r.IntN(len(names))]
				k, err = k.Subkey(name)
				require.NoError(t, err)
				m = m.keys[name]
			}
			name := oddName(r)
			switch what := r.IntN(20); {
			case what < 10:
				sizes := []int{0, 1, 4, 5, 60, 700, 16343, 16344, 16345, 40000}
				v := Value{name, Type(r.IntN(13)), make([]byte, sizes[r.IntN(len(sizes))])}
				for k := range v.Data {
					v.Data[k] = byte(r.Uint32())
				}
				require.NoError(t, h.SetValue(k, v))
				m.values[fold(name)] = v
			case what < 14:
				err := h.DeleteValue(k, name)
				if _, ok := m.values[fold(name)]; !ok {
					require.ErrorIs(t, err, ErrNotFound)
					break
				}
				require.NoError(t, err)
				delete(m.values, fold(name))
			case what < 18 || n < 1500:
				_, err := h.CreateKey(k, name, [][]byte{nil, []byte("other descriptor, 20")}[r.IntN(2)], made)
				if _, ok := m.keys[fold(name)]; ok {
					require.Error(t, err)
					break
				}
				require.NoError(t, err)
				m.keys[fold(name)] = newTree()
			case m != model:
				sub, err := k.Subkey(name)
				if err != nil {
					break
				}
				require.NoError(t, h.DeleteKey(sub))
				delete(m.keys, fold(name))
			}
			if n%500 == 499 {
				h, _ = reopened(t, h)
				_, err := h.survey()
				require.NoError(t, err)
			}
		}
		root, err := h.Root()
		require.NoError(t, err)
		model.check(t, root, "")
		// What is taken away leaves its place to what comes: the size of a hive
		// that is filled and emptied again and again stays within bounds.
		filled := uint32(0)
		for round := range 20 {
			k, err := h.CreateKey(root, "comes and goes", nil, made)
			require.NoError(t, err)
			for n := range 300 {
				sub, err := h.CreateKey(k, fmt.Sprintf("k%03d", n), []byte("a descriptor of its own"), made)
				require.NoError(t, err)
				require.NoError(t, h.SetValue(sub, NewText("v", strings.Repeat("x", n))))
				require.NoError(t, h.SetClass(sub, windata.Encode("class")))
			}
			require.NoError(t, h.DeleteKey(k))
			if round == 0 {
				filled = h.size
			}
		}
		require.LessOrEqual(t, h.size, filled+256<<10)
	}
}

// TestManyKeys makes lists split, and find their way back together.
func TestManyKeys(t *testing.T) {
	h := Create(make([]byte, 20), made)
	root, err := h.Root()
	require.NoError(t, err)
	order := rand.New(rand.NewPCG(1, 2)).Perm(3000)
	for _, n := range order {
		_, err := h.CreateKey(root, fmt.Sprintf("Key %d", n), nil, made)
		require.NoError(t, err)
	}
	h, _ = reopened(t, h)
	root, err = h.Root()
	require.NoError(t, err)
	subs, err := root.Subkeys()
	require.NoError(t, err)
	require.Len(t, subs, 3000)
	for _, n := range order[:2990] {
		k, err := h.Key(fmt.Sprintf("KEY %d", n))
		require.NoError(t, err)
		require.NoError(t, h.DeleteKey(k))
	}
	h, _ = reopened(t, h)
	root, err = h.Root()
	require.NoError(t, err)
	subs, err = root.Subkeys()
	require.NoError(t, err)
	require.Len(t, subs, 10)
}

func TestUnchangedRoundTrip(t *testing.T) {
	_, file := reopened(t, sample(t))
	file = append(file, "behind the bins"...)
	h, err := Open(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = h.WriteTo(&out)
	require.NoError(t, err)
	require.Equal(t, file, out.Bytes())
	require.False(t, h.Edited())
}

func sample(t testing.TB) *Hive {
	h := Create(make([]byte, 20), made)
	root, err := h.Root()
	require.NoError(t, err)
	run, err := h.CreateKey(root, "Run", nil, made)
	require.NoError(t, err)
	require.NoError(t, h.SetValue(run, NewText("Fogbell Sync", `C:\Fogbell\sync.exe`)))
	require.NoError(t, h.SetValue(run, NewList("list", "one", "two")))
	require.NoError(t, h.SetValue(run, NewNumber("number", 7)))
	require.NoError(t, h.SetValue(run, Value{"big", Binary, bytes.Repeat([]byte("0123456789"), 5000)}))
	return h
}

func TestValues(t *testing.T) {
	require.Equal(t, []string{"one", "two"}, NewList("x", "one", "two").Strings())
	require.Equal(t, "one", Value{"x", String, TextData("one\x00two")}.Text())
	n, ok := NewNumber("x", 7).Number()
	require.True(t, ok)
	require.EqualValues(t, 7, n)
	require.Equal(t, made, windata.Time(windata.FileTime(made)))
	require.EqualValues(t, 116444736000000000, windata.FileTime(time.Unix(0, 0)))
	for _, s := range []string{"", "ä🜂\x00", "\xed\xa0\x80", "x\xed\xb0\x80y"} {
		require.Equal(t, s, windata.Decode(windata.Encode(s)))
	}
}

func TestMarvin(t *testing.T) {
	for text, want := range map[string]uint64{"": 0x30ed35c100cd3c7d, "\xaf": 0x48e73fc77d75ddc1,
		"\xe7\x0f": 0xb5f6e1fc485dbff8} {
		require.Equal(t, want, marvin(0x004fb61a001bdbcc, []byte(text)))
	}
}

// newLogOf writes a log of the new format that turns one file into another,
// a page an entry.
func newLogOf(before, after []byte, first uint32) []byte {
	log := make([]byte, sector)
	copy(log, after[:sector])
	binary.LittleEndian.PutUint32(log[28:], newLog)
	binary.LittleEndian.PutUint32(log[508:], checksum(log))
	for at := pageSize; at < len(after); at += pageSize {
		if at < len(before) && bytes.Equal(before[at:min(at+pageSize, len(before))], after[at:at+pageSize]) {
			continue
		}
		e := make([]byte, 5120)
		copy(e, "HvLE")
		for field, v := range map[int]uint32{4: 5120, 12: first, 16: uint32(len(after) - pageSize), 20: 1,
			logEntry: uint32(at - pageSize), logEntry + 4: pageSize} {
			binary.LittleEndian.PutUint32(e[field:], v)
		}
		copy(e[logEntry+8:], after[at:at+pageSize])
		binary.LittleEndian.PutUint64(e[24:], marvin32(e[logEntry:]))
		binary.LittleEndian.PutUint64(e[32:], marvin32(e[:32]))
		log = append(log, e...)
		first++
	}
	return log
}

// oldLogOf is the same in the old format.
func oldLogOf(before, after []byte) []byte {
	log := make([]byte, sector)
	copy(log, after[:sector])
	binary.LittleEndian.PutUint32(log[28:], oldLog)
	binary.LittleEndian.PutUint32(log[508:], checksum(log))
	log = append(log, "DIRT"...)
	bitmap := make([]byte, (len(after)-pageSize)/sector/8)
	var data []byte
	for k := range len(bitmap) * 8 {
		part := after[pageSize+k*sector:][:sector]
		if at := pageSize + k*sector; at >= len(before) || !bytes.Equal(before[at:at+sector], part) {
			bitmap[k/8] |= 1 << (k % 8)
			data = append(data, part...)
		}
	}
	log = append(log, bitmap...)
	log = append(log, make([]byte, -len(log)&(sector-1))...)
	return append(log, data...)
}

func source(b []byte) Source { return Source{bytes.NewReader(b), int64(len(b))} }

func TestLogs(t *testing.T) {
	_, before := reopened(t, sample(t))
	h, err := Open(bytes.NewReader(before), int64(len(before)))
	require.NoError(t, err)
	run, err := h.Key("Run")
	require.NoError(t, err)
	for n := range 50 {
		require.NoError(t, h.SetValue(run, NewText(fmt.Sprintf("late %d", n), strings.Repeat("y", 300))))
	}
	_, after := reopened(t, h)
	dirty := slices.Clone(before)
	binary.LittleEndian.PutUint32(dirty[4:], le32(before, 4)+1)
	binary.LittleEndian.PutUint32(dirty[508:], checksum(dirty))
	torn := slices.Clone(dirty)
	torn[100] ^= 1
	log := newLogOf(before, after, le32(before, 8))
	half := sector + (len(log)/sector/20)*5120
	second := append(slices.Clone(log[:sector]), log[half:]...)
	broken := slices.Clone(log)
	broken[len(broken)/2] ^= 1
	for name, c := range map[string]struct {
		file []byte
		logs [][]byte
		done bool
	}{
		"new":                {dirty, [][]byte{log, nil}, true},
		"new, torn":          {torn, [][]byte{nil, log}, true},
		"in two":             {dirty, [][]byte{second, log[:half]}, true},
		"old":                {dirty, [][]byte{oldLogOf(before, after)}, true},
		"none":               {dirty, nil, false},
		"never used":         {dirty, [][]byte{make([]byte, 8192)}, false},
		"old, cut":           {dirty, [][]byte{oldLogOf(before, after)[:2048]}, false},
		"older than it":      {dirty, [][]byte{newLogOf(before, after, 0xfffffff0)[:sector+5120]}, false},
		"of another, broken": {dirty, [][]byte{broken[:sector]}, false},
	} {
		t.Run(name, func(t *testing.T) {
			var logs []Source
			for _, l := range c.logs {
				logs = append(logs, source(l))
			}
			h, err := OpenWithLogs(bytes.NewReader(c.file), int64(len(c.file)), logs...)
			require.NoError(t, err)
			if !c.done {
				require.ErrorIs(t, h.Unfinished(), ErrUnfinished)
				run, err := h.Key("Run")
				require.NoError(t, err)
				require.ErrorIs(t, h.SetValue(run, NewNumber("n", 1)), ErrUnfinished)
				return
			}
			require.NoError(t, h.Unfinished())
			var out bytes.Buffer
			_, err = h.WriteTo(&out)
			require.NoError(t, err)
			require.Equal(t, after[pageSize:], out.Bytes()[pageSize:])
			clean, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
			require.NoError(t, err)
			require.NoError(t, clean.Unfinished())
		})
	}
}

// walk reads everything that can be reached, as an inventory would at worst.
func walk(k *Key, depth int, left *int) {
	if *left--; *left < 0 || depth > MaxDepth {
		return
	}
	k.Values()
	k.Class()
	k.Security()
	subs, _ := k.Subkeys()
	for _, sub := range subs {
		walk(sub, depth+1, left)
	}
}

// hostile are hives that each claim something impossible.
func TestHostile(t *testing.T) {
	h := sample(t)
	run, err := h.Key("Run")
	require.NoError(t, err)
	value, err := run.findValue("list")
	require.NoError(t, err)
	list := run.u32(nkValueList)
	_, good := reopened(t, h)
	for name, change := range map[string]func(file []byte){
		"a value of 1 GB": func(f []byte) {
			binary.LittleEndian.PutUint32(f[pageSize+value+4+vkDataLen:],
				1<<30)
		},
		"a billion values": func(f []byte) {
			binary.LittleEndian.PutUint32(f[pageSize+run.at+4+nkValues:],
				1<<30)
		},
		"itself as its subkey": func(f []byte) { cyclic(f, run.at) },
		"a value over another": func(f []byte) { binary.LittleEndian.PutUint32(f[pageSize+list+4:], value+8) },
		"a name behind the end": func(f []byte) {
			binary.LittleEndian.PutUint16(f[pageSize+run.at+4+nkNameLen:],
				0xffff)
		},
		"the last cell too large": func(f []byte) { binary.LittleEndian.PutUint32(f[pageSize+run.at:], 0x80000008) },
	} {
		t.Run(name, func(t *testing.T) {
			file := slices.Clone(good)
			change(file)
			h, err := Open(bytes.NewReader(file), int64(len(file)))
			require.NoError(t, err)
			root, err := h.Root()
			require.NoError(t, err)
			left := 10000
			walk(root, 0, &left)
			run, err := h.Key("Run")
			if err == nil {
				_, verr := run.Values()
				_, kerr := run.Subkeys()
				err = cmpOr(verr, kerr)
				h.DeleteKey(run)
			}
			if !strings.HasPrefix(name, "itself") {
				require.ErrorIs(t, err, ErrDamaged)
			}
		})
	}
}

func cmpOr(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// cyclic makes a key its own subkey: its value list becomes a list of keys.
func cyclic(f []byte, at uint32) {
	list := le32(f, int(pageSize+at+4+nkValueList))
	copy(f[pageSize+list+4:], "li\x01\x00")
	binary.LittleEndian.PutUint32(f[pageSize+list+8:], at)
	binary.LittleEndian.PutUint32(f[pageSize+at+4+nkValues:], 0)
	binary.LittleEndian.PutUint32(f[pageSize+at+4+nkSubkeys:], 1)
	binary.LittleEndian.PutUint32(f[pageSize+at+4+nkSubkeyList:], list)
}

func FuzzHive(f *testing.F) {
	_, file := reopened(f, sample(f))
	f.Add(file, []byte{})
	f.Add(file, newLogOf(nil, file, 1))
	f.Add(file, oldLogOf(nil, file))
	f.Fuzz(func(t *testing.T, file, log []byte) {
		h, err := OpenWithLogs(bytes.NewReader(file), int64(len(file)), source(log))
		if err != nil {
			return
		}
		root, err := h.Root()
		if err != nil {
			return
		}
		left := 2000
		walk(root, 0, &left)
		subs, _ := root.Subkeys()
		for k, sub := range subs {
			if k%2 == 0 {
				h.DeleteKey(sub)
			} else if h.SetValue(sub, NewText("new", "text")) == nil {
				v, err := sub.hive.mustKey(sub.at).Value("new")
				require.NoError(t, err)
				require.Equal(t, "text", v.Text())
			}
			if k > 50 {
				break
			}
		}
		h.CreateKey(root, "New", nil, made)
		h.Seal(made)
		var out bytes.Buffer
		_, err = h.WriteTo(&out)
		require.NoError(t, err)
	})
}

func (h *Hive) mustKey(at uint32) *Key {
	k, err := h.keyAt(at)
	if err != nil {
		panic(err)
	}
	return k
}
