package review_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/review"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// item is an entry that is on, with what a test says about it.
func item(name string, with func(*location.Item)) *location.Item {
	i := &location.Item{Entry: autostart.Entry{Handle: name, Name: name, State: autostart.Enabled,
		Switch: autostart.Hide, Known: &autostart.Known{}}}
	with(i)
	return i
}

func verdict(word, basis string) func(*location.Item) {
	return func(i *location.Item) { i.Known = &autostart.Known{Verdict: word, VerdictBasis: basis} }
}

func used(days int) []autostart.Use {
	return []autostart.Use{{Last: now.Add(-time.Duration(days) * 24 * time.Hour)}}
}

// items are one of each kind, in the order in which a review has them, with the reason.
func items() (all []*location.Item, why []string) {
	for _, row := range []struct {
		item *location.Item
		why  string
	}{
		{item("noted-hostile", verdict("hostile", autostart.ByNote)), "your note calls it hostile"},
		{item("replaced", func(i *location.Item) { i.Problems = []string{autostart.NotDefault, autostart.Insecure} }),
			"it changes what the system itself runs"},
		{item("impostor", func(i *location.Item) {
			i.Problems = []string{autostart.Impostor,
				autostart.TargetMissing}
		}), "it uses a name of the system's but is not the system's"},
		{item("patched", func(i *location.Item) { i.Problems = []string{autostart.Changed} }),
			"its program is not as its package delivered it"},
		{item("open-to-all", func(i *location.Item) { i.Problems = []string{autostart.Insecure}; i.Guarded = "x" }),
			"any user can change what it runs"},
		{item("behind", func(i *location.Item) { i.Behind = "/opt/x" }),
			"it also runs /opt/x, behind a program of the system's"},
		{item("guard-off", func(i *location.Item) {
			i.State, i.Problems = autostart.Disabled, []string{autostart.NotDefault}
			i.Known = &autostart.Known{Role: "security"}
		}), "it protects the machine, and is off"},
		{item("missing", func(i *location.Item) {
			i.Problems = []string{
				autostart.TargetMissing}
			i.Target.Path = "/gone"
		}), "its program is missing"},
		{item("slow-updater", func(i *location.Item) {
			i.Known = &autostart.Known{Role: "updater"}
			i.Cost = &autostart.Cost{StartMS: 21_000, MemoryKB: 900 << 10}
		}), "it took 21.0 s to start"},
		{item("costly", func(i *location.Item) { i.Cost = &autostart.Cost{CPUMS: 90_000, StartMS: 90} }),
			"it took 90.0 s of processor time"},
		{item("costly-useful", func(i *location.Item) {
			i.Known = &autostart.Known{Verdict: "useful", VerdictBasis: autostart.ByCatalogue}
			i.Cost, i.Uses = &autostart.Cost{MemoryKB: 200 << 10}, used(400)
		}), "it has 200 MB of memory, and was last used by hand on 2025-10-22"},
		{item("unused", func(i *location.Item) { i.Uses = used(200) }), "it was last used by hand on 2026-05-10"},
		{item("spare", verdict("spare", autostart.ByCatalogue)), "the catalogue calls it spare"},
		{item("plain", func(i *location.Item) { i.Uses = used(10); i.Cost = &autostart.Cost{CPUMS: 10} }),
			"nobody has rated it, and its maker is unknown"},
		{item("helper-missing", func(i *location.Item) {
			there := true
			i.Problems, i.Target.Path = []string{autostart.TargetMissing}, "curl"
			i.Commands = []autostart.Command{{Path: "curl"}, {Path: "/usr/bin/sh", Exists: &there}}
		}), "nobody has rated it, and its maker is unknown"},
		{item("made-known", func(i *location.Item) {
			i.Known = &autostart.Known{Maker: autostart.Maker{
				Name: "Fogbell"}}
		}),
			"nobody has rated it yet"},
		{item("essential", func(i *location.Item) {
			i.Known = &autostart.Known{Verdict: "essential", VerdictBasis: autostart.ByNote}
			i.Cost = &autostart.Cost{CPUMS: 90_000}
		}), "your note calls it essential"},
		{item("protected", func(i *location.Item) { i.Guarded = "needed to sign in" }),
			"it is protected: needed to sign in"},
		{item("fixed", func(i *location.Item) { i.Switch = autostart.Report }), "it cannot be turned off here"},
		{item("off", func(i *location.Item) {
			i.State = autostart.Disabled
			i.Problems = []string{
				autostart.TargetMissing}
		}), "it is off already"},
	} {
		all, why = append(all, row.item), append(why, row.why)
	}
	return all, why
}

// The order does not hang on where an entry stood before, and each has its reason.
func TestOrder(t *testing.T) {
	want, why := items()
	for turn := range len(want) {
		mixed := append(append([]*location.Item{}, want[turn:]...), want[:turn]...)
		for k, p := range review.Order(mixed, now) {
			require.Equal(t, want[k].Name, p.Item.Name)
			require.Equal(t, why[k], p.Why)
		}
	}
	require.Empty(t, review.Order(nil, now))
}

// What is proposed: never what is protected, is off, cannot be turned off, is of the system, or that
// nobody judged; and of what drives a device or secures the machine only what is hostile.
func TestSuggest(t *testing.T) {
	all, _ := items()
	names := func(s []review.Suggestion) (names []string) {
		for _, g := range s {
			names = append(names, g.Kind+" "+g.Item.Name)
		}
		return names
	}
	require.Equal(t, []string{"hostile noted-hostile", "broken impostor", "broken missing", "costly slow-updater",
		"unused costly-useful", "spare spare"}, names(review.Suggest(all, nil, now)))
	require.Equal(t, []string{"spare spare"}, names(review.Suggest(all, []string{"spare"}, now)))
	for _, with := range []func(*location.Item){
		func(i *location.Item) { i.Guarded = "x" },
		func(i *location.Item) { i.State = autostart.Disabled },
		func(i *location.Item) { i.Switch = autostart.Report }, func(i *location.Item) { i.OSPart = true },
	} {
		for _, word := range []string{"spare", "hostile"} {
			i := item("x", verdict(word, autostart.ByNote))
			i.Problems = []string{autostart.TargetMissing}
			with(i)
			require.Empty(t, review.Suggest([]*location.Item{i}, nil, now))
		}
	}
	for _, role := range []string{"security", "device", "input", "display", "sound", "network", "storage",
		"accessibility"} {
		i := item("x", func(i *location.Item) { i.Known = &autostart.Known{Verdict: "spare", Role: role} })
		require.Empty(t, review.Suggest([]*location.Item{i}, nil, now), role)
		i.Known.Verdict = "hostile"
		require.Len(t, review.Suggest([]*location.Item{i}, nil, now), 1, role)
	}
	for basis, want := range map[string]int{autostart.BySignature: 1, autostart.ByVersionResource: 0} {
		slow := item("x", func(i *location.Item) {
			i.Known = &autostart.Known{Maker: autostart.Maker{Name: "Fogbell", Basis: basis}}
			i.Cost = &autostart.Cost{StartMS: 21_400}
		})
		require.Len(t, review.Suggest([]*location.Item{slow}, []string{"costly"}, now), want, basis)
	}
	careful := item("x", verdict("spare", autostart.ByCatalogue))
	careful.Caution = "folders of other computers need it"
	require.Equal(t, "the catalogue calls it spare; think twice: folders of other computers need it",
		review.Suggest([]*location.Item{careful}, nil, now)[0].Why)
	kept := item("x", verdict("essential", autostart.ByNote))
	kept.Problems = []string{autostart.TargetMissing}
	require.Empty(t, review.Suggest([]*location.Item{kept}, nil, now))
}
