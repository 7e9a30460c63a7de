package webkit

import (
	"testing"

	"parallelpane/internal/engine/conformance"
)

func TestConformance(t *testing.T) {
	conformance.Run(t, Family{}, conformance.Kit{Script: true, BiDi: false})
}

func TestConformanceOfWPE(t *testing.T) {
	conformance.Run(t, WPE{}, conformance.Kit{Script: true, BiDi: false, OneWindow: true})
}
