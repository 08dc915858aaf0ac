package autostart

import "time"

// EntryDocument is the form of an entry in JSON, which [Entry.AppendJSON] writes.
type EntryDocument struct {
	Handle     string    `json:"handle"`      // the entry's short name, the same in every snapshot of the machine
	Location   string    `json:"location"`    // the id of the location that the entry was read from
	Place      string    `json:"place"`       // the location in people's words
	Stage      Stage     `json:"stage"`       // when it starts
	Scope      Scope     `json:"scope"`       // whose list it stands in
	User       string    `json:"user"`        // whose entry it is; empty for the whole computer
	Name       string    `json:"name"`        // what people call it
	SystemName string    `json:"system_name"` // what the system itself calls it
	State      State     `json:"state"`       // whether it would start
	Mode       string    `json:"mode"`        // the operating system's own word for the state
	When       string    `json:"when"`        // when it starts, in words
	Command    string    `json:"command"`     // as it is written at the source
	Target     Target    `json:"target"`      // the program that it really starts
	Commands   []Command `json:"commands"`    // all programs that it starts, where these are several
	Maker      Maker     `json:"maker"`       // who made the program
	Product    Product   `json:"product"`     // what the program came with
	// What the program does, in words, and how that is known.
	Description      string `json:"description"`
	DescriptionBasis string `json:"description_basis"`
	Role             string `json:"role"`    // what the program is for
	Verdict          string `json:"verdict"` // what to do with the program
	VerdictBasis     string `json:"verdict_basis"`
	OSPart           bool   `json:"os_part"`  // a part of the operating system itself
	OSBasis          string `json:"os_basis"` // how that is known
	Guarded          string `json:"guarded"`  // what a mistake with it would cost; empty: it is not protected
	Caution          string `json:"caution"`  // what to think of before it is turned off; empty: nothing
	Source           Source `json:"source"`   // where it was read from
	Switch           Switch `json:"switch"`   // how it is turned off
	// What is wrong with it.
	Problems []string `json:"problems"`
	Notes    []Note   `json:"notes"` // what technicians wrote down about it, the nearest first
	// What the program costs; null where that is not known.
	Cost *CostDocument `json:"cost" jsonschema:"nullable"`
	// When anybody last started the program by hand; null where that is not known.
	LastUsed *time.Time `json:"last_used" jsonschema:"nullable"`
}

// CostDocument is the form of a cost in JSON.
type CostDocument struct {
	CPUMS      int64  `json:"cpu_ms"`    // milliseconds of processor time
	MemoryKB   int64  `json:"memory_kb"` // memory in units of 1,024 bytes
	DiskKB     int64  `json:"disk_kb"`   // read and written, in units of 1,024 bytes
	StartMS    int64  `json:"start_ms"`  // how long it took to start, in milliseconds
	StartBasis string `json:"start_basis"`
	Basis      string `json:"basis"` // where the figures come from, and of when they are
}

// JSONSchemaAlias is the form that the entry has in JSON, for whoever makes a schema of it.
func (Entry) JSONSchemaAlias() any { return EntryDocument{} }
