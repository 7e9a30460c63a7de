package api

// Printing is a test whose command an agent has, and may be running.
type Printing struct {
	Pane    int    `json:"pane"`
	Test    int    `json:"test"`
	Name    string `json:"name"`
	Label   string `json:"label" description:"of the combination"`
	Agent   string `json:"agent"`
	Attempt string `json:"attempt"`
}

// Output is what a command prints while it runs: whole lines, without secrets.
type Output struct {
	Live    bool   `json:"live" description:"the command runs now; what it printed is else a file of the attempt, output.log"`
	Attempt string `json:"attempt"`
	From    int64  `json:"from" description:"place of the text, in bytes; later than asked for where some is gone"`
	Next    int64  `json:"next" description:"from where to ask the next time"`
	Text    string `json:"text"`
}
