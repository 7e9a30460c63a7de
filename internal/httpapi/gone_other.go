//go:build !unix

package httpapi

import "net"

// watchGone cannot watch a connection here: a client that goes away is noticed
// when its session stays idle.
func watchGone(net.Conn) (gone <-chan struct{}, stop func()) { return nil, func() {} }
