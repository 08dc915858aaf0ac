package inventory

import (
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/identify"
	"lockback/core/location"
)

// Together sorts items into groups that need each other, in the order of their first: units that start each other (a
// timer, socket or path and its service), entries that start the same program, what lies in the same app of a Mac, and
// a helper with the rest of its product, and extensions of one class of Windows' Explorer, which loads all of them or
// none. Turning off one of them alone would show nothing, or cannot be done.
func Together(system string, items []*location.Item) [][]*location.Item {
	leader := make([]int, len(items))
	for k := range leader {
		leader[k] = k
	}
	find := func(k int) int {
		for leader[k] != k {
			k = leader[k]
		}
		return k
	}
	first := map[string]int{}
	join := func(k int, key string) {
		other, known := first[key]
		if !known {
			first[key] = k
			return
		}
		if a, b := find(k), find(other); a != b {
			leader[max(a, b)] = min(a, b)
		}
	}
	helped := map[string]bool{} // products with a helper
	for _, item := range items {
		if known := item.Entry.Facts(); known.Role == "helper" && known.Product.Name != "" {
			helped[known.Product.Name] = true
		}
	}
	for k, item := range items {
		e := &item.Entry
		if item.Kind().IsUnit() && slices.Contains(unitEndings, path.Ext(e.SystemName)) {
			join(k, "unit\x00"+e.Location+"\x00"+e.User+"\x00"+strings.TrimSuffix(e.SystemName, path.Ext(e.SystemName)))
		}
		program := e.Target.Path
		if program != "" && e.Stage != autostart.Attach && !identify.StartsOthers(program) {
			join(k, "program\x00"+program+"\x00"+e.Command) // with other arguments it does something else
		}
		if app, _, ok := strings.Cut(program, ".app/"); ok && system == "macos" {
			join(k, "app\x00"+app)
		}
		if product := e.Facts().Product.Name; helped[product] {
			join(k, "product\x00"+product)
		}
		if item.Kind() == location.ClassExtension && e.Source.Key != "" {
			join(k, "class\x00"+strings.ToLower(e.Source.Key))
		}
		if e.Shared != "" {
			join(k, "shared\x00"+e.Shared)
		}
	}
	var groups [][]*location.Item
	at := map[int]int{}
	for k, item := range items {
		g, known := at[find(k)]
		if !known {
			g = len(groups)
			at[find(k)] = g
			groups = append(groups, nil)
		}
		groups[g] = append(groups[g], item)
	}
	return groups
}

// unitEndings are those of units that start a service of their name, systemd.unit(5), and of that.
var unitEndings = []string{".service", ".timer", ".socket", ".path"}
