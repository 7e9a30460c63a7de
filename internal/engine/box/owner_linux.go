package box

import (
	"errors"
	"fmt"
	"net"
	"os"
)

// Users that systems leave unassigned; a box of an agent that runs as root gets
// one of them for itself, so that it owns nothing of anybody's.
const (
	firstOwner = 60578
	lastOwner  = 61183
)

// ownUser is what the user of an agent that is not root is called in its boxes.
const ownUser = 1000

// owner is the user that a box runs as. It is held by a name in the machine's
// network, which no two hold at once and none keeps after its end.
type owner struct {
	id   uint32
	held net.Listener
}

// newOwner takes a user that no other box has; nil for an agent that is not root,
// whose boxes run as its own user.
func newOwner() (*owner, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for id := firstOwner; id <= lastOwner; id++ {
		if l, err := net.Listen("unix", fmt.Sprintf("@pane-box-%d", id)); err == nil {
			return &owner{uint32(id), l}, nil
		}
	}
	return nil, errors.New("every user for sandboxes is taken")
}

// number is the owner's user, 0 for none.
func (o *owner) number() int {
	if o == nil {
		return 0
	}
	return int(o.id)
}

func (o *owner) release() {
	if o != nil {
		o.held.Close()
	}
}
