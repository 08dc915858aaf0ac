package program

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
)

func TestBundleRoles(t *testing.T) {
	for _, c := range []struct {
		folder string
		info   plist.Dict
		want   string
	}{
		{"/Library/Extensions/Tide.kext", nil, "device"},
		{"/Library/Input Methods/Tide.app", plist.Dict{"InputMethodConnectionName": "tide"}, "input"},
		{"/Library/Audio/Plug-Ins/Components/Tide.component", plist.Dict{"AudioComponents": []any{}}, "sound"},
		{"/Applications/Tide.app", plist.Dict{"LSApplicationCategoryType": "public.app-category.finance"}, "office"},
		{"/Applications/Tide.app", plist.Dict{"LSApplicationCategoryType": "public.app-category.utilities"}, ""},
		{"/Applications/Tide.app", plist.Dict{"LSApplicationCategoryType": 7}, ""},
	} {
		require.Equal(t, c.want, bundle{folder: c.folder, dict: c.info}.role(), c.folder)
	}
}
