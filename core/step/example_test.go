package step_test

import (
	"fmt"
	"testing/fstest"

	"vorrang/core/step"
)

func ExampleReadDir() {
	folder := fstest.MapFS{
		"0010-add-index.sql":          {Data: []byte("/*---\nmode: autocommit\n---*/\nCREATE INDEX CONCURRENTLY i ON berth (name);")},
		"0002-create-berth.sql":       {Data: []byte("CREATE TABLE berth (name text);")},
		"0002-create-berth.back.sql":  {Data: []byte("DROP TABLE berth;")},
		"0002.1-widen-berth-name.sql": {Data: []byte("SELECT 1;")},
	}
	steps, err := step.ReadDir(folder)
	if err != nil {
		fmt.Println(err)
	}
	for _, s := range steps {
		fmt.Println(s.Number, s.Title(), s.Options().Mode, s.Back != nil)
	}
	// Output:
	// 2 create berth transaction true
	// 2.1 widen berth name transaction false
	// 10 add index autocommit false
}

func ExampleReadFile() {
	_, problems := step.ReadFile("0007-add-index.sql", []byte("/*---\nmode: fast\n---*/\nSELECT 1;"))
	fmt.Println(problems)
	// Output:
	// 0007-add-index.sql:2:7: mode: "fast" is none of transaction, autocommit, batches
}
