package sqlite

import "time"

const (
	// connectPatience is how long to wait for whoever writes to the file, to read it
	// or to write to the ledger.
	connectPatience = 5 * time.Second
	// peekTimeout bounds a check that is only looked at.
	peekTimeout = 30 * time.Second
)
