package step_test

import (
	"fmt"
	"testing/fstest"

	"vorrang/core/step"
)

func ExampleReadDir() {
	steps, err := step.ReadDir(fstest.MapFS{
		"0002-add-berth-depth.sql": {
			Data: []byte("/*---\nmode: autocommit\n---*/\nALTER TABLE berth ADD COLUMN depth_cm integer;\n"),
		},
		"0001-create-berth.sql":       {Data: []byte("CREATE TABLE berth (name text);\n")},
		"0001-create-berth.back.sql":  {Data: []byte("DROP TABLE berth;\n")},
		"0001-create-berth.check.sql": {Data: []byte("SELECT count(*) = 0 FROM berth;\n")},
	})
	if err != nil {
		fmt.Println(err) // every problem with its file, line and column
	}
	for _, s := range steps {
		fmt.Printf(
			"%s %s, mode %s, way back: %t, check: %t, %s\n",
			s.Number, s.Title(), s.Options().Mode, s.Back != nil, s.Check != nil, s.Forward.Checksum.Short(),
		)
	}
	// Output:
	// 1 create berth, mode transaction, way back: true, check: true, e8f688424dad
	// 2 add berth depth, mode autocommit, way back: false, check: false, 5031014fd737
}

func ExampleCompare() {
	fmt.Println(step.Compare("2", "10"), step.Compare("2.1", "2"), step.Compare("2.1", "2.1"))
	// Output: -1 1 0
}
