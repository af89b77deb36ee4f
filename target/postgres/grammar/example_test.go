package grammar_test

import (
	"fmt"

	"vorrang/target/postgres/grammar"
)

func ExampleCut() {
	statements, err := grammar.Cut(
		[]byte(
			"CREATE TABLE berth (name text); -- a ; in a comment\nCOPY berth FROM stdin;\nNorth; mole\n\\.\nSELECT ';'",
		),
	)
	if err != nil {
		fmt.Println(err)
	}
	for _, s := range statements {
		fmt.Printf("line %d: %s %q\n", s.Line, s.SQL, s.CopyData)
	}
	// Output:
	// line 1: CREATE TABLE berth (name text) ""
	// line 2: COPY berth FROM stdin "North; mole\n"
	// line 5: SELECT ';' ""
}
