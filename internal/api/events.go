package api

// Event tells a watcher that something changed.
type Event struct {
	Type  string      `json:"type" enum:"run,wall,agents,sessions"`
	Run   *RunSummary `json:"run,omitempty" description:"with run and wall: the run as it stands, without its panes"`
	Panes []Pane      `json:"panes,omitempty" description:"with wall: the panes that changed, as they stand"`
	Cells []CellAt    `json:"cells,omitempty" description:"with wall: the cells that changed"`
	Whole bool        `json:"whole,omitempty" description:"with wall: more has changed than an event holds: the run is to be read again"`
}

// CellAt is a cell with its place.
type CellAt struct {
	Pane int `json:"pane"`
	Test int `json:"test"`
	Cell
}
