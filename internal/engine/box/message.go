package box

// What the agent and its helper in the box say to each other: one JSON object a
// packet, files beside it.

// terms are what the helper is started with.
type terms struct {
	Limits Limits
	User   int // to become; 0 stays who it is
}

// request is what the agent asks. Every request is answered once, in any order.
type request struct {
	ID   int    `json:"id"`
	Verb string `json:"verb"` // start, terminate, kill, dial, listen

	// start: the first file is where the program's output goes, the rest are its own.
	Path string   `json:"path,omitempty"`
	Args []string `json:"args,omitempty"`
	Env  []string `json:"env,omitempty"`
	Dir  string   `json:"dir,omitempty"`

	PID  int `json:"pid,omitempty"`  // terminate, kill: of a program that was started
	Port int `json:"port,omitempty"` // dial
}

// answer is what the helper says: to a request, or of a program that has ended.
// To dial and listen it brings the socket.
type answer struct {
	ID    int    `json:"id,omitempty"`
	Error string `json:"error,omitempty"`
	PID   int    `json:"pid,omitempty"`
	Ended bool   `json:"ended,omitempty"` // the program PID has; Error says how unless it ended well
	Ready bool   `json:"ready,omitempty"` // the helper is there, said once
}

// maxPacket bounds a message in bytes.
const maxPacket = 180 << 10
