package program

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
)

// filled sets every field of a value to something that is not empty.
func filled(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString("Ebbe & Flut " + v.Type().Name())
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Uint8:
		v.SetUint(uint64(Changed))
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 3, 3))
		for k := range v.Len() {
			filled(v.Index(k))
		}
	case reflect.Struct:
		for k := range v.NumField() {
			filled(v.Field(k))
		}
	}
}

// TestRemembered keeps evidence with every field that there is: one that is added later is missed
// here.
func TestRemembered(t *testing.T) {
	var full remembered
	filled(reflect.ValueOf(&full).Elem())
	for k := range full.Evidence {
		for n := range full.Evidence[k].Notes {
			note := &full.Evidence[k].Notes[n]
			if note.Kind = autostart.OtherFact; n%2 == 0 {
				note.Kind, note.Name = autostart.FactSignedBy, ""
			}
		}
	}
	b := full.encode()
	var read remembered
	require.True(t, read.decode(b))
	require.Equal(t, full, read)
	for n := range b {
		require.False(t, new(remembered).decode(b[:n]), n)
	}
	require.False(t, new(remembered).decode(append(b, 0)))
	empty := remembered{Path: "/opt/tide"}
	require.True(t, read.decode(empty.encode()))
	require.Equal(t, "/opt/tide", read.Path)
	require.Empty(t, read.Evidence)
}

func FuzzRemembered(f *testing.F) {
	var full remembered
	filled(reflect.ValueOf(&full).Elem())
	f.Add(full.encode())
	f.Add([]byte("{}"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var r, again remembered
		if r.decode(b) {
			require.True(t, again.decode(r.encode()))
			require.Equal(t, r, again)
		}
	})
}
