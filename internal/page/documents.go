package page

// Documents are the forms of JSON that commands print, by the names of their schemas in docs/schema.
func Documents() map[string]any {
	return map[string]any{
		"list": ListDocument{}, "show": ShowDocument{}, "lookup": LookupDocument{}, "products": ProductsDocument{},
		"figures":   FiguresDocument{},
		"locations": LocationsDocument{}, "change": ChangeDocument{}, "recover": ItemDocument{}, "keep": ItemDocument{},
		"check":   CheckDocument{},
		"culprit": SearchDocument{}, "snapshot": SnapshotDocument{}, "history": HistoryDocument{},
		"history-change":   ChangeDetail{},
		"history-snapshot": SnapshotDetail{}, "compare": CompareDocument{}, "review": ReviewDocument{},
		"suggest": SuggestionsDocument{},
		"note":    NotesDocument{}, "catalogue": CatalogueDocument{}, "catalogue-check": CatalogueProblemsDocument{},
		"catalogue-import": ImportDocument{}, "catalogue-list": CataloguesDocument{}, "record-verify": RecordDocument{},
		"config": ConfigDocument{},
	}
}
