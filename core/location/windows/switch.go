package windows

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/location"
	"lockback/core/machine"
)

// The switches of Windows. Each only says which image an artifact should have.

// approve is the switch that Windows' own settings pages use: a value of twelve
// bytes in StartupApproved, by the name of what it is about. The first byte's
// lowest bit says that it is off; a time follows of when it was switched off.
type approve struct{ key, name string }

const (
	approvedOn  = 0x02
	approvedOff = 0x03
)

// isOff tells what a value says; one that is not there leaves the entry on.
func approvedState(v regf.Value) (off bool, known bool) {
	if len(v.Data) == 0 {
		return false, false
	}
	return v.Data[0]&1 != 0, true
}

func (a approve) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	artifact := machine.RegistryValue(a.key, a.name)
	before, err := images.Image(artifact)
	if err != nil {
		return nil, err
	}
	data := make([]byte, 12)
	data[0] = approvedOn
	if want.State == autostart.Disabled {
		data[0] = approvedOff
		binary.LittleEndian.PutUint64(data[4:], regf.FileTime(want.Now))
	}
	if off, known := approvedState(before.Value()); (known || want.State == autostart.Enabled) && off == (want.State == autostart.Disabled) && before.Kind == machine.Value {
		return nil, nil
	}
	edits, err := makeKeys(images, a.key)
	if err != nil {
		return nil, err
	}
	image := machine.NewValue(regf.Value{Type: regf.Binary, Data: data})
	return append(edits, location.Edit{Artifact: artifact, Image: image}), nil
}

// makeKeys plans the keys that are missing on the way to one.
func makeKeys(images location.Images, key string) ([]location.Edit, error) {
	var missing []location.Edit
	for a, ok := machine.RegistryKeyOnly(key), true; ok; a, ok = a.Parent() {
		i, err := images.Image(a)
		if err != nil {
			return nil, err
		}
		if i.Kind != machine.Absent {
			slices.Reverse(missing)
			return missing, nil
		}
		missing = append(missing, location.Edit{Artifact: a, Image: machine.NewKey()})
	}
	return nil, fmt.Errorf("%w: the registry has no place for %s", location.ErrNoSwitch, key)
}

// number is the switch of an entry whose state is a number that the location
// documents.
type number struct {
	key, name string
	on, off   uint32
	// remove says that switching on takes the value away instead, where it was
	// not there before.
	remove bool
}

func (n number) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	artifact := machine.RegistryValue(n.key, n.name)
	before, err := images.Image(artifact)
	if err != nil {
		return nil, err
	}
	if want.State == autostart.Enabled && n.remove {
		return []location.Edit{{Artifact: artifact, Image: machine.Image{Kind: machine.Absent}}}, nil
	}
	v := regf.NewNumber("", map[autostart.State]uint32{autostart.Enabled: n.on, autostart.Disabled: n.off}[want.State])
	if before.Kind == machine.Value && (before.Value().Type == regf.QWord || before.Value().Type == regf.String) {
		return nil, fmt.Errorf("%w: %s is not of the type it should be", location.ErrNoSwitch, artifact)
	}
	edits, err := makeKeys(images, n.key)
	if err != nil {
		return nil, err
	}
	return append(edits, location.Edit{Artifact: artifact, Image: machine.NewValue(v)}), nil
}

// trim takes one item out of a value that holds a list: a REG_MULTI_SZ, a text
// with separators, or one that names a single thing.
type trim struct {
	key, name string
	item      string
	separator string // "" for a REG_MULTI_SZ and for a single thing
	fallback  string // what stays when the last item goes: the system's default
}

func (t trim) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case want.User != nil:
		return nil, location.ErrNotPerUser
	case want.State == autostart.Enabled:
		return nil, fmt.Errorf("%w: what was taken out comes back from the record", location.ErrNoSwitch)
	}
	artifact := machine.RegistryValue(t.key, t.name)
	image, err := images.Image(artifact)
	if err != nil {
		return nil, err
	}
	v := image.Value()
	items := splitList(v, t.separator)
	k := slices.Index(items, t.item)
	if k < 0 {
		return nil, fmt.Errorf("%w: %s no longer holds %q", location.ErrNoSwitch, artifact, t.item)
	}
	items = slices.Delete(slices.Clone(items), k, k+1)
	if len(items) == 0 && t.fallback != "" {
		items = []string{t.fallback}
	}
	switch {
	case t.separator == "" && len(items) == 0:
		return []location.Edit{{Artifact: artifact, Image: machine.Image{Kind: machine.Absent}}}, nil
	case v.Type == regf.MultiString:
		v.Data = regf.ListData(items)
	default:
		v.Data = regf.TextData(cutItem(v.Text(), t.separator, k, t.fallback))
	}
	image.Content = v.Data
	return []location.Edit{{Artifact: artifact, Image: image}}, nil
}

// splitList returns the items of a list value, without the blanks around them.
// In texts, quotes keep separators together.
func splitList(v regf.Value, separator string) []string {
	if v.Type == regf.MultiString {
		return v.Strings()
	}
	if separator == "" {
		if s := strings.TrimSpace(v.Text()); s != "" {
			return []string{s}
		}
		return nil
	}
	var items []string
	for _, part := range splitText(v.Text(), separator) {
		if s := strings.TrimSpace(part); s != "" {
			items = append(items, s)
		}
	}
	return items
}

// splitText splits at any of the separators, outside quotes.
func splitText(text, separators string) []string {
	quoted := false
	return strings.FieldsFunc(text, func(r rune) bool {
		if r == '"' {
			quoted = !quoted
		}
		return !quoted && strings.ContainsRune(separators, r)
	})
}

// cutItem takes the k-th item out of a text, with the separator behind it or,
// for the last one, before it. The others stay as they are, as does how they are
// separated.
func cutItem(text, separators string, k int, fallback string) string {
	if separators == "" {
		return fallback
	}
	type span struct{ from, to int } // of an item, up to and with the separator behind it
	var items []span
	quoted, from := false, 0
	add := func(to, next int) {
		if strings.TrimSpace(text[from:to]) != "" {
			items = append(items, span{from, next})
		}
		from = next
	}
	for at := 0; at < len(text); at++ {
		if text[at] == '"' {
			quoted = !quoted
		}
		if !quoted && strings.IndexByte(separators, text[at]) >= 0 {
			add(at, at+1)
		}
	}
	add(len(text), len(text))
	cut := items[k]
	out := text[:cut.from] + text[cut.to:]
	if cut.to == len(text) && !strings.ContainsAny(text[cut.to-1:], separators) {
		out = strings.TrimRight(out, separators+" ")
	}
	if strings.Trim(out, separators+" ") == "" {
		return fallback
	}
	return out
}

// startType is the switch of a service or driver: its start type becomes 4. What
// it was is in the record; without one it becomes the type that such services
// usually have.
type startType struct {
	key   string
	usual uint32
}

// Start types, as winnt.h names them.
const (
	startBoot     = 0
	startSystem   = 1
	startAuto     = 2
	startDemand   = 3
	startDisabled = 4
)

func (s startType) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	n := uint32(startDisabled)
	if want.State == autostart.Enabled {
		n = s.usual
	}
	return []location.Edit{{Artifact: machine.RegistryValue(s.key, "Start"), Image: machine.NewValue(regf.NewNumber("", n))}}, nil
}
