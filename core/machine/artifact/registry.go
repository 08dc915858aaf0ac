package artifact

import (
	"bytes"
	"strings"

	"lockback/core/format/regf"
)

// ValueSeparator stands between a key's path and a value's name: no key's path
// holds it.
const ValueSeparator = `\\`

// RegistryValue is the artifact of a value. The empty name is the default value.
func RegistryValue(key, name string) Artifact {
	return Artifact{ValueArtifact, key + ValueSeparator + name}
}

// RegistryTree is the artifact of a key with everything below it.
func RegistryTree(key string) Artifact { return Artifact{TreeArtifact, key} }

// RegistryKeyOnly is the artifact of a key for itself: that it is there, its
// rights, its class and its time.
func RegistryKeyOnly(key string) Artifact { return Artifact{KeyArtifact, key} }

// Value splits the name of a value artifact.
func (a Artifact) Value() (key, name string) {
	key, name, _ = strings.Cut(a.Name, ValueSeparator)
	return key, name
}

// NewValue is an image of a registry value.
func NewValue(v regf.Value) Image {
	return Image{Kind: Value, UID: -1, GID: -1, Type: uint32(v.Type), Content: v.Data, Place: -1}
}

// Value is the registry value that an image holds, without its name.
func (i Image) Value() regf.Value { return regf.Value{Type: regf.Type(i.Type), Data: i.Content} }

// sameRegistry compares images of the registry. Of a key for itself, only its
// rights count: others may put values there meanwhile.
func (i Image) sameRegistry(j Image) bool {
	switch i.Kind {
	case Value:
		return i.Type == j.Type && bytes.Equal(i.Content, j.Content)
	case Key:
		return i.Xattrs == nil || j.Xattrs == nil || sameXattrs(i.Xattrs, j.Xattrs)
	}
	if bytes.Equal(i.Content, j.Content) {
		return true
	}
	// A running system does not let the time of a key be set.
	a, err1 := i.Recorded()
	b, err2 := j.Recorded()
	return err1 == nil && err2 == nil && a.same(b)
}
