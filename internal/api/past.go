package api

// Past is what the cells of a run came to in the last runs that tried them.
type Past struct {
	Run int `json:"run"`
	// By pane and test: a letter for each run up to this one, oldest first, twenty at most: p passed,
	// f failed, y flaky, l lab fault, a set aside, n ended, s skipped, u unsupported.
	Strips [][]string `json:"strips"`
}
