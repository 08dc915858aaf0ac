package page

import (
	"lockback/core/change"
	"lockback/core/machine"
)

// ItemDocument is one snapshot or change of a machine, in JSON.
type ItemDocument struct {
	Machine Machine `json:"machine"`
	Item
}

// Kept tells of a change that was kept, or of one that says what may stay.
func (w Writer) Kept(m *machine.Machine, c change.Change, words string) error {
	item, p := ItemOf(c), w
	switch w.Format {
	case "json":
		return p.JSON(ItemDocument{MachineOf(m), item})
	case "csv":
		return p.CSV(itemHeader, [][]string{item.row()})
	}
	p.Line("%s", Subject(m))
	p.Line("%s", words)
	return nil
}
