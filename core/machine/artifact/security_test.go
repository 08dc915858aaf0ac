package artifact

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Attributes are compared to the byte; a security descriptor by what it allows, and only where both
// file systems keep one.
func TestSameAttributes(t *testing.T) {
	t.Parallel()
	// MS-DTYP 2.4.6: revision 1, control bits, then where owner, group and lists lie: none.
	descriptor := func(control byte) []byte { return append([]byte{1, 0, control, 0x80}, make([]byte, 16)...) }
	type attrs = map[string][]byte
	for name, c := range map[string]struct {
		a, b attrs
		same bool
	}{
		"equal":                   {attrs{"user.x": []byte("1")}, attrs{"user.x": []byte("1")}, true},
		"another value":           {attrs{"user.x": []byte("1")}, attrs{"user.x": []byte("2")}, false},
		"one more":                {attrs{"user.x": []byte("1")}, attrs{}, false},
		"one less":                {nil, attrs{"user.x": []byte("1")}, false},
		"looks like a descriptor": {attrs{"user.x": descriptor(0)}, attrs{"user.x": descriptor(4)}, false},
		"descriptor on one side":  {attrs{SecurityAttribute: descriptor(0)}, attrs{}, true},
		"how it came about": {attrs{SecurityAttribute: descriptor(0)}, attrs{SecurityAttribute: descriptor(8)},
			true},
		"another descriptor": {attrs{SecurityAttribute: descriptor(0)}, attrs{SecurityAttribute: []byte("x")}, false},
	} {
		require.Equal(t, c.same, sameXattrs(c.a, c.b), name)
		require.Equal(t, c.same, sameXattrs(c.b, c.a), name)
	}
}
