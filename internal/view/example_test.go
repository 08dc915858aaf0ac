package view_test

import (
	"os"
	"slices"

	"lockback/internal/view"
)

func ExamplePrinter_Table() {
	p := view.Printer{Out: os.Stdout, Width: 40}
	rows := [][]view.Cell{
		{view.T("Fogbell Sync"), view.T("/opt/fogbell/sync --quiet --profile museum")},
		{view.T("Tidewatch"), view.T("/opt/tidewatch")},
	}
	p.Table([]view.Column{{Title: "name"}, {Title: "command", Share: 1}}, slices.Values(rows))
	// Output:
	// name          command
	// Fogbell Sync  /opt/fogbell/sync --quiet
	//               --profile museum
	// Tidewatch     /opt/tidewatch
}
