package service

import (
	"time"

	"vorrang/records"
)

// signInLimits slow down who guesses. What they go by is in the records, so that it does not
// matter which service somebody asks.
var signInLimits = records.SignInLimits{
	Free:    5, // wrong tries that cost nothing
	Longest: 5 * time.Minute,
	Burst:   100, // tries of one address at once; later one for each second
}

// remembered is how many wrong tries, and addresses, are kept in mind.
const remembered = 100_000
