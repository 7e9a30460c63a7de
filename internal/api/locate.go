package api

import "parallelpane/internal/core/likeness"

// LocateFilter is a locator that is tried on a page that was kept.
type LocateFilter struct {
	Locator string `query:"locator" json:"-" required:"true" description:"as scripts write it: {role: button, name: Hold}, or a text"`
	Test    string `query:"test" json:"-" description:"file of the test that the step is of"`
	Step    string `query:"step" json:"-" description:"where the step stands in its file, as line:column: the answer has its changed lines"`
}

// Located is what a locator finds on a page that was kept.
type Located struct {
	Address string           `json:"address"`
	Title   string           `json:"title"`
	Width   int              `json:"width" description:"of the viewport, which its picture shows, in CSS pixels"`
	Height  int              `json:"height"`
	Left    int              `json:"left" description:"how far the page was scrolled"`
	Top     int              `json:"top"`
	Total   int              `json:"total"`
	Visible int              `json:"visible"`
	Found   []LocatedElement `json:"found" description:"at most fifty"`
	Words   string           `json:"words"`
	Lines   string           `json:"lines" description:"the step's lines with it in place of its own; empty where that cannot be said"`
}

// LocatedElement is one that it finds.
type LocatedElement struct {
	likeness.Portrait
	Better string `json:"better" description:"a locator that finds it alone, as scripts write it; empty when there is none"`
}
