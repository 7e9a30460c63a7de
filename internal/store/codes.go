package store

import (
	"database/sql/driver"
	"encoding/binary"
	"fmt"

	"github.com/google/uuid"
	"modernc.org/sqlite"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
)

// codes are verdicts as the large tables hold them. A number keeps its meaning
// for ever.
var codes = map[verdict.Verdict]int64{verdict.Pending: 0, verdict.Passed: 1, verdict.Failed: 2, verdict.Flaky: 3, verdict.LabFault: 4,
	verdict.Ended: 5, verdict.Skipped: 6, verdict.Unsupported: 7, verdict.Aside: 8}

var named = func() map[int64]string {
	out := map[int64]string{}
	for v, n := range codes {
		out[n] = string(v)
	}
	return out
}()

// code is the number of a verdict; one that there is not is no number that a
// statement would take.
func code(v string) any {
	if n, ok := codes[verdict.Verdict(v)]; ok {
		return n
	}
	return nil
}

// NewID makes an id that sorts by time (RFC 9562, UUID version 7).
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// short is an id as the large tables hold it: the 16 bytes of a UUID. An id that
// is none is kept as it stands.
func short(id string) any {
	if u, err := uuid.Parse(id); err == nil {
		return u[:]
	}
	return []byte(id)
}

// The database itself puts both back into words: verdict(code), uuid(id), and
// session(id) for the first session of an attempt; and tells by asked_at(id) when an id was made (RFC 9562, section 5.7).
func init() {
	sqlite.MustRegisterDeterministicScalarFunction("asked_at", 1, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		b, ok := args[0].([]byte)
		if !ok || len(b) != 16 {
			return int64(0), nil
		}
		return int64(binary.BigEndian.Uint64(b) >> 16), nil
	})
	sqlite.MustRegisterDeterministicScalarFunction("verdict", 1, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		n, _ := args[0].(int64)
		return named[n], nil
	})
	sqlite.MustRegisterDeterministicScalarFunction("session", 1, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		b, ok := args[0].([]byte)
		if !ok {
			return nil, fmt.Errorf("session: expected bytes, found %T", args[0])
		}
		return attempt.Session(long(b), 1), nil
	})
	sqlite.MustRegisterDeterministicScalarFunction("uuid", 1, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		b, ok := args[0].([]byte)
		if !ok {
			return nil, fmt.Errorf("uuid: expected bytes, found %T", args[0])
		}
		return long(b), nil
	})
}

// long is the inverse of short.
func long(b []byte) string {
	if u, err := uuid.FromBytes(b); err == nil {
		return u.String()
	}
	return string(b)
}
