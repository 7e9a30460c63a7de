package script

import (
	"errors"
	"strings"

	"parallelpane/internal/core/source"
)

// ParseLocator reads a locator as it stands in a script. Texts that are evaluated have no
// values here, and are refused.
func ParseLocator(text string) (*Locator, error) {
	if strings.Contains(strings.ReplaceAll(text, "$${", ""), "${") {
		return nil, errors.New("a locator that is tried by itself has no variables: write what they come to")
	}
	root, problem := Document("locator", []byte(text))
	if problem != nil {
		return nil, errors.New(problem.Message)
	}
	p := &parser{Reader: Reader{File: "locator"}}
	l := p.locator(root, "locator")
	if len(p.Problems) > 0 {
		return nil, errors.New(p.Problems[0].Message)
	}
	return l, nil
}

// Find is the locator with its texts, without anything that would have to be evaluated.
func (l *Locator) Find(marker string) (Find, error) {
	r := &runner{set: Setting{Marker: marker}}
	return r.find(l)
}

// TargetAt is where the locator of the step stands that begins at a place of a script; ok is
// false where there is none, or in a file of blocks.
func TargetAt(src []byte, step source.Position) (at source.Position, ok bool) {
	root, problem := Document(step.File, src)
	if problem != nil {
		return at, false
	}
	p := &parser{Reader: Reader{File: step.File}}
	s := p.script(root)
	if len(p.Problems) > 0 {
		return at, false
	}
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Line == step.Line && st.Column == step.Column && st.target() != nil {
			return st.target().Position, true
		}
	}
	return at, false
}
