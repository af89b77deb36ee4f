package ledger_test

import (
	"fmt"
	"time"

	"vorrang/core/ledger"
)

func ExampleVerify() {
	at := time.Date(2026, 11, 3, 7, 0, 0, 0, time.UTC)
	first := ledger.NewHead().
		Next(ledger.Entry{Action: ledger.Applied, Step: "1", Slug: "create-berth", Actor: "pilot"}, at)
	second := first.Head().
		Next(ledger.Entry{Action: ledger.Applied, Step: "2", Slug: "add-berth-depth", Actor: "pilot"}, at)
	fmt.Println(ledger.Verify([]ledger.Entry{first, second}))

	first.Actor = "nobody" // somebody rewrites the history
	fmt.Println(ledger.Verify([]ledger.Entry{first, second}))
	// Output:
	// <nil>
	// the ledger's chain is broken at entry 1: its content is not what its hash was made of
}

func ExampleFold() {
	at := time.Date(2026, 11, 3, 7, 0, 0, 0, time.UTC)
	applied := ledger.NewHead().Next(ledger.Entry{Action: ledger.Applied, Step: "1", Slug: "create-berth"}, at)
	back := applied.Head().Next(ledger.Entry{Action: ledger.RolledBack, Step: "1", Slug: "create-berth"}, at)
	state := ledger.Fold([]ledger.Entry{applied, back})
	fmt.Println(state.Of("1").Status, "·", state.Of("2").Status)
	// Output: rolled back · pending
}
