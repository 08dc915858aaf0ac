package keyedarchive

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"howett.net/plist"
)

// archive puts objects together as NSKeyedArchiver does.
func archive(top map[string]any, objects ...any) map[string]any {
	return map[string]any{"$archiver": "NSKeyedArchiver", "$version": uint64(100000), "$top": top,
		"$objects": append([]any{"$null"}, objects...)}
}

func class(name string) map[string]any {
	return map[string]any{"$classname": name, "$classes": []any{name, "NSObject"}}
}

func TestReadsFoundationValues(t *testing.T) {
	u := func(n int) plist.UID { return plist.UID(n) }
	root := archive(map[string]any{"root": u(1)},
		map[string]any{"$class": u(2), "name": u(3), "flag": true, "count": uint64(7), "none": u(0), "list": u(4),
			"url": u(6), "uuid": u(9), "date": u(10), "data": u(11), "dict": u(12), "mutable": u(14)},
		class("TideRecord"), "Gezeiten", // 2, 3
		map[string]any{"$class": u(5), "NS.objects": []any{u(3), "plain"}}, class("NSArray"), // 4, 5
		map[string]any{"$class": u(8), "NS.base": u(7), "NS.relative": "x.app"},         // 6
		map[string]any{"$class": u(8), "NS.base": u(0), "NS.relative": "file:///Apps/"}, // 7
		class("NSURL"), map[string]any{"NS.uuidbytes": []byte("\x01#456789abcdefg\xff")}, // 8, 9
		map[string]any{"NS.time": 0.5}, map[string]any{"NS.data": []byte{1, 2}}, // 10, 11
		map[string]any{"$class": u(13), "NS.keys": []any{u(3), "b"}, "NS.objects": []any{"one", "two", "three"}}, // 12
		class("NSDictionary"), map[string]any{"NS.string": "soft"}, // 13, 14
	)
	for _, form := range []int{plist.XMLFormat, plist.BinaryFormat} {
		b, err := plist.Marshal(root, form)
		require.NoError(t, err)
		var decoded any
		_, err = plist.Unmarshal(b, &decoded)
		require.NoError(t, err)
		a, err := Decode(decoded)
		require.NoError(t, err)
		o := a.Top("root")
		require.Equal(t, "Gezeiten", o.Field("name").Text())
		require.True(t, o.Field("flag").Bool())
		n, ok := o.Field("count").Int()
		require.True(t, ok)
		require.EqualValues(t, 7, n)
		require.False(t, o.Field("none").Exists())
		require.False(t, o.Field("missing").Exists())
		require.Len(t, o.Field("list").List(), 2)
		require.Equal(t, "Gezeiten", o.Field("list").List()[0].Text())
		require.Equal(t, "plain", o.Field("list").List()[1].Text())
		require.Equal(t, "file:///Apps/x.app", o.Field("url").Text())
		require.Equal(t, "01233435-3637-3839-6162-6364656667FF", o.Field("uuid").UUID())
		require.Equal(t, []byte{1, 2}, o.Field("data").Data())
		require.Equal(t, "one", o.Field("dict").Field("Gezeiten").Text())
		require.Len(t, o.Field("dict").Pairs(), 2, "a value without a key is none")
		require.Equal(t, "soft", o.Field("mutable").Text())
		require.Empty(t, a.Top("other").List())
	}
}

// References that lead in a circle, beyond the end or to other references.
func TestHostileReferences(t *testing.T) {
	u := func(n uint64) plist.UID { return plist.UID(n) }
	a, err := Decode(archive(map[string]any{"root": u(1), "far": u(1 << 60), "ref": u(4)},
		map[string]any{"$class": u(1), "NS.base": u(1), "NS.relative": "x", "NS.objects": []any{u(1), u(2)},
			"NS.keys": []any{u(1)}},
		map[string]any{"$class": u(3)}, map[string]any{"$classname": u(3)}, u(4)))
	require.NoError(t, err)
	o := a.Top("root")
	require.NotEmpty(t, o.Text())
	for range 1000 { // as deep as one likes
		o = o.List()[0]
	}
	require.False(t, o.Field("anything").Exists())
	require.False(t, a.Top("far").Exists())
	require.False(t, a.Top("ref").Exists())
	for _, bad := range []any{nil, "x", map[string]any{}, map[string]any{"$objects": []any{},
		"$top": map[string]any{}}} {
		_, err := Decode(bad)
		require.ErrorIs(t, err, ErrFormat)
	}
}

// FuzzArchive walks through whatever an archive holds, as far as a reader would.
func FuzzArchive(f *testing.F) {
	add := func(root any) {
		b, err := plist.Marshal(root, plist.XMLFormat)
		require.NoError(f, err)
		f.Add(b)
	}
	u := func(n uint64) plist.UID { return plist.UID(n) }
	add(archive(map[string]any{"root": u(1)}, map[string]any{"$class": u(2), "NS.objects": []any{u(1), u(3)},
		"NS.keys": []any{u(3)}}, class("NSArray"), "text"))
	add(archive(map[string]any{"root": u(1)}, map[string]any{"NS.base": u(1), "NS.relative": "x", "NS.time": 1e300,
		"NS.data": []byte{1}, "NS.uuidbytes": []byte("0123456789abcdef")}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 1<<14 || !strings.HasPrefix(string(b), "<?xml") || strings.Count(string(b), "<") > 2000 {
			return
		}
		var root any
		func() {
			defer func() { _ = recover() }() // bounds are the reader's of property lists
			_, _ = plist.Unmarshal(b, &root)
		}()
		a, err := Decode(root)
		if err != nil {
			return
		}
		var walk func(o Object, depth int)
		walk = func(o Object, depth int) {
			_, _, _, _ = o.Text(), o.UUID(), o.Data(), o.Bool()
			if depth == 0 {
				return
			}
			for _, below := range o.List()[:min(3, len(o.List()))] {
				walk(below, depth-1)
			}
			for _, p := range o.Pairs()[:min(3, len(o.Pairs()))] {
				walk(p.Key, depth-1)
				walk(p.Value, depth-1)
			}
		}
		for name := range a.top {
			walk(a.Top(name), 4)
		}
	})
}
