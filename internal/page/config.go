package page

import "lockback/internal/view"

// Setting is a setting of the configuration, and what its value comes from; both are empty if it is not set.
type Setting struct {
	Setting string `json:"setting"`
	Value   string `json:"value"`
	From    string `json:"from"`
}

// ConfigDocument are the settings, in JSON.
type ConfigDocument struct {
	Settings []Setting `json:"settings"`
}

// Config lists the settings.
func (w Writer) Config(all []Setting) error {
	switch w.Format {
	case "json":
		return w.JSON(ConfigDocument{all})
	case "csv":
		var rows [][]string
		for _, s := range all {
			rows = append(rows, []string{s.Setting, s.Value, s.From})
		}
		return w.CSV([]string{"setting", "value", "from"}, rows)
	}
	var pairs []view.Pair
	for _, s := range all {
		pair := view.Pair{Name: s.Setting, Value: s.Value, From: s.From}
		if s.From == "" {
			pair.Value, pair.From = "not set", ""
		}
		pairs = append(pairs, pair)
	}
	w.Pairs(pairs)
	return nil
}
