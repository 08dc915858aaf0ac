package autostart_test

import (
	"bytes"
	"encoding/json"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
)

func entry(name, user, location string, state autostart.State, problems ...string) *autostart.Entry {
	return &autostart.Entry{Handle: autostart.Handle(location, user, name), Name: name, User: user, Location: location,
		State: state,
		Stage: autostart.SignIn, Problems: problems}
}

func TestSelectors(t *testing.T) {
	sync := entry("Fogbell Sync", "ines", "linux.xdg-autostart", autostart.Enabled)
	tray := entry("Fogbell Tray", "bram", "linux.xdg-autostart", autostart.Disabled)
	line := entry("update", "", "linux.cron.system", autostart.Enabled, autostart.TargetMissing, autostart.Insecure)
	all := []*autostart.Entry{sync, tray, line}
	for _, c := range []struct {
		words []string
		want  []*autostart.Entry
	}{
		{nil, all},
		{[]string{sync.Handle}, []*autostart.Entry{sync}},
		{[]string{sync.Handle, line.Handle}, []*autostart.Entry{sync, line}},
		{[]string{"fogbell*"}, []*autostart.Entry{sync, tray}},
		{[]string{"fogbell*", "user=ines,bram", "state=enabled"}, []*autostart.Entry{sync}},
		{[]string{"user!=ines"}, []*autostart.Entry{tray, line}},
		{[]string{"user="}, []*autostart.Entry{line}},
		{[]string{"location=linux.*"}, all},
		{[]string{"location!=linux.cron.*"}, []*autostart.Entry{sync, tray}},
		{[]string{"problem=insecure"}, []*autostart.Entry{line}},
		{[]string{"problem="}, []*autostart.Entry{sync, tray}},
		{[]string{"state=dis*"}, []*autostart.Entry{tray}},
		{[]string{"*/sync"}, nil},
	} {
		s, err := autostart.ParseSelector(c.words)
		require.NoError(t, err)
		require.Equal(t, c.want, s.Choose(all), "%v", c.words)
	}
	for _, words := range [][]string{{"colour=red"}, {"stage=logging"}, {"state=one"}, {""}, {"[x"}, {"name=[x"}} {
		_, err := autostart.ParseSelector(words)
		require.Error(t, err, "%v", words)
	}
	s, err := autostart.ParseSelector([]string{"Fogbell Sync", "Fogbell Snyc"})
	require.NoError(t, err)
	word, ok := s.Unmatched(all)
	require.True(t, ok)
	require.Equal(t, "Fogbell Snyc", word)
}

func TestBeginnings(t *testing.T) {
	a, b := &autostart.Entry{Handle: "abcdefg", Name: "One"}, &autostart.Entry{Handle: "abcxyz2", Name: "abcd"}
	for word, want := range map[string]*autostart.Entry{"ABCDE": a, "abcx": b, "abcd": b, "one": a, "ONE": a} {
		s, err := autostart.ParseSelector([]string{word})
		require.NoError(t, err)
		s, err = s.Resolve([]*autostart.Entry{a, b})
		require.NoError(t, err)
		// a name wins over a beginning
		require.Equal(t, []*autostart.Entry{want}, s.Choose([]*autostart.Entry{a, b}), word)
	}
	s, err := autostart.ParseSelector([]string{"abc"})
	require.NoError(t, err)
	_, err = s.Resolve([]*autostart.Entry{a, b})
	require.EqualError(t, err, `"abc" begins 2 handles: abcdefg, abcxyz2; type more of it`)
}

func TestNearest(t *testing.T) {
	for word, want := range map[string][]string{"sign": {"sign-in"}, "SIGNIN": {"sign-in"}, "bot": {"boot"}, "x": nil,
		"": nil, "schedul": {"schedule"}, strings.Repeat("a", 99): nil} {
		require.Equal(t, want, autostart.Nearest(word, []string{"boot", "sign-in", "schedule", "boot", ""}), word)
	}
}

func TestHandles(t *testing.T) {
	shape := regexp.MustCompile(`^[a-z][a-z2-7]{6}$`)
	seen := map[string]bool{}
	for _, key := range []string{"", "a", "b", "/etc/cron.d/x\x00root\x00/y"} {
		h := autostart.Handle("linux.cron.system", "", key)
		require.Regexp(t, shape, h)
		require.Equal(t, h, autostart.Handle("linux.cron.system", "", key))
		require.False(t, seen[h])
		seen[h] = true
	}
	// What is recorded must find its entry again in every later version.
	require.Equal(t, "jvce7ig", autostart.Handle("linux.systemd.system", "", "tidewatch.service"))
}

func FuzzSelector(f *testing.F) {
	f.Add("Fogbell*", "stage=sign-in", "a\xffb")
	f.Fuzz(func(t *testing.T, a, b, raw string) {
		require.True(t, utf8.ValidString(autostart.Text(raw)))
		s, err := autostart.ParseSelector([]string{a, b})
		if err == nil {
			s.Matches(*entry(raw, a, b, autostart.Enabled))
		}
	})
}

func TestEntriesInJSON(t *testing.T) {
	there := true
	for _, e := range []autostart.Entry{
		{Problems: []string{}, Notes: []autostart.Note{}, Commands: []autostart.Command{}},
		{Handle: "k7f3qa2", Name: "a \"b\" \\ \x07 <&> \u2028", User: "ines", State: autostart.Disabled,
			Stage: autostart.SignIn, Scope: autostart.ForUser, OSPart: true, OSBasis: autostart.ByName,
			Switch:   autostart.Park,
			Target:   autostart.Target{Path: "/a", Exists: &there, Size: 7, Modified: time.Unix(1, 5).UTC()},
			Commands: []autostart.Command{{Path: "/y", Exists: &there}, {Key: "ExecStop", Line: "/z \"1\""}},
			Source:   autostart.Source{Path: "p", Key: "k", Line: 3}, Problems: []string{"a", "b"},
			Notes: []autostart.Note{{Text: "a \"b\"\x07", Verdict: "spare", Role: "sync", By: "Tess",
				Time: time.Unix(1, 0).UTC(), Machine: true}, {Proven: true}},
			Known: &autostart.Known{Maker: autostart.Maker{Name: "Fogbell", Basis: autostart.BySignature},
				Product:     autostart.Product{Name: "Fogbell Sync", Version: "3", Installed: "2026-01-02"},
				Description: "d", DescriptionBasis: autostart.ByPackage}},
	} {
		text, err := json.Marshal(e)
		require.NoError(t, err)
		var got struct {
			autostart.Entry  // its tags, without its methods for JSON
			Maker            autostart.Maker
			Product          autostart.Product
			Description      string
			DescriptionBasis string `json:"description_basis"`
		}
		require.NoError(t, json.Unmarshal(text, &got))
		known := e.Facts()
		require.Equal(t, *known, autostart.Known{Maker: got.Maker, Product: got.Product, Description: got.Description,
			DescriptionBasis: got.DescriptionBasis})
		got.Entry.Known = e.Known
		require.Equal(t, e, got.Entry)
	}
}

// What is written is what the schema is made of: the same names in the same order, in each object.
func TestDocumentIsWhatIsWritten(t *testing.T) {
	t.Parallel()
	yes := true
	e := autostart.Entry{Handle: "k7f3qa2", Target: autostart.Target{Path: "/a", Exists: &yes, Size: 1,
		Modified: time.Unix(1, 0)},
		Problems: []string{autostart.Twice}, Notes: []autostart.Note{{Text: "x"}}, Cost: &autostart.Cost{CPUMS: 1},
		Uses: []autostart.Use{{Last: time.Unix(1, 0)}}}
	var document autostart.EntryDocument
	decoder := json.NewDecoder(bytes.NewReader(e.AppendJSON(nil)))
	decoder.DisallowUnknownFields()
	require.NoError(t, decoder.Decode(&document))
	again, err := json.Marshal(document)
	require.NoError(t, err)
	require.Equal(t, keys(t, again), keys(t, e.AppendJSON(nil)))
}

// keys are the names of all members, in their order.
func keys(t *testing.T, text []byte) []string {
	t.Helper()
	var all []string
	for _, m := range regexp.MustCompile(`"([a-z_]+)":`).FindAllSubmatch(text, -1) {
		all = append(all, string(m[1]))
	}
	return all
}
