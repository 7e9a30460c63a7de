package android

import "parallelpane/internal/engine/box"

// NewGate serves a driver until close; it answers at the port.
func NewGate(p *Phone, b box.Box, app string) (closing func(), port int, err error) {
	g, port, err := newGate(p, b, app)
	if err != nil {
		return nil, 0, err
	}
	return g.close, port, nil
}
