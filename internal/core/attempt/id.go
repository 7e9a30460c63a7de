package attempt

import "fmt"

// An attempt may have one session, several, or none. Their ids tell which belong to
// it: an attempt's id is a UUID (RFC 9562) whose last byte is zero, and in that byte
// its sessions are counted from 1.

// MaxSessions is how many sessions an attempt can have.
const MaxSessions = 255

// uuidLength is that of the usual form, in hexadecimal digits and hyphens.
const uuidLength = 36

// NewID makes an attempt's id of a UUID.
func NewID(uuid string) string { return numbered(uuid, 0) }

// Session is the id of the nth session of an attempt, n from 1 to MaxSessions.
func Session(id string, n int) string { return numbered(id, n) }

// Of is the attempt that a session belongs to.
func Of(session string) string { return numbered(session, 0) }

// numbered puts a number into the last byte; what is no UUID has none and stays.
func numbered(id string, n int) string {
	if len(id) != uuidLength {
		return id
	}
	return id[:uuidLength-2] + fmt.Sprintf("%02x", n&MaxSessions)
}

// NumberOf is the number of a session in its attempt; 1 for what is no UUID.
func NumberOf(session string) int {
	n := 1
	if len(session) == uuidLength {
		if _, err := fmt.Sscanf(session[uuidLength-2:], "%02x", &n); err != nil {
			return 1
		}
	}
	return n
}
