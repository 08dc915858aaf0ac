package cimstore

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"
)

// object is what the store has of one: numbers, then the heap with its length.
func object(class string, values ...[]byte) []byte {
	heap := bytes.Join(append([][]byte{single(class)}, values...), nil)
	b := binary.LittleEndian.AppendUint32([]byte{7, 0, 0, 0, 1, 2, 3}, uint32(len(heap))|1<<31)
	return append(b, heap...)
}

func single(text string) []byte { return append(append([]byte{0}, text...), 0) }

func double(text string) []byte {
	b := []byte{1}
	for _, u := range utf16.Encode([]rune(text + "\x00")) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

func TestBindings(t *testing.T) {
	t.Parallel()
	store := []byte("junk\x00CommandLineEventConsumer.Name=\"Tide\"\x00\x00\x01__EventFilter.Name=\"At " +
		"seven\"\x00rest CommandLineEventConsumer.Name=\"cut short")
	require.Equal(t, []Binding{{"CommandLineEventConsumer", "Tide", "At seven"}}, Bindings(store))
}

func TestConsumers(t *testing.T) {
	t.Parallel()
	// The id of an account stands between the texts: a count and bytes.
	sid := []byte{28, 0, 0, 0, 1, 5, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 10, 2, 3, 4}
	command := `C:\brinecast\tide.exe /quiet`
	store := bytes.Join([][]byte{make([]byte, 100), object("CommandLineEventConsumer", single(command), sid,
		double("Ebbe und Flut \u00e4\u0431"), single("caf\xe9")), make([]byte, 50),
		object("ActiveScriptEventConsumer", single("VBScript"), single("Set a = 1\r\nRun a"), single("Tide"))}, nil)
	want := []Consumer{{"CommandLineEventConsumer", []string{command, "Ebbe und Flut \u00e4\u0431", "caf\u00e9"}},
		{"ActiveScriptEventConsumer", []string{"VBScript", "Set a = 1\r\nRun a", "Tide"}}}
	require.Equal(t, want, Consumers(store))
	// Cut short anywhere, or with another length, it is found or not, and nothing else comes of it.
	for k := range store {
		for _, c := range Consumers(store[:k]) {
			require.Contains(t, want, c)
		}
	}
	require.Empty(t, Consumers(append(make([]byte, 10), single("CommandLineEventConsumer")...)), "no length before it")
}

// A store that is made to take long does not: if time grew with the square of the length, this would take minutes.
func TestHostileHeap(t *testing.T) {
	t.Parallel()
	heap := object("CommandLineEventConsumer", bytes.Repeat([]byte{1}, maxHeap-100))
	for range 50 {
		require.Empty(t, Consumers(heap))
	}
}

func FuzzStore(f *testing.F) {
	f.Add([]byte("EventConsumer.Name=\"x\"__EventFilter.Name=\"y\""))
	f.Add(object("CommandLineEventConsumer", single("a"), double("b")))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, x := range Bindings(b) {
			require.True(t, strings.HasSuffix(x.Class, consumerMark))
		}
		for _, c := range Consumers(b) {
			for _, text := range c.Texts {
				require.NotContains(t, text, "\x00")
			}
		}
	})
}
