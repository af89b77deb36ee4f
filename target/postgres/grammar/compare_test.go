package grammar

import (
	"testing"

	"vorrang/core/sqltext"

	"github.com/stretchr/testify/assert"
)

func TestAnEditIsWhatItsTokensSay(t *testing.T) {
	const base = "-- berths\nCREATE TABLE berth (id int, name text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\n" +
		"SELECT 'a  b' /* why */;\n"
	cases := map[string]struct {
		after string
		want  sqltext.Change
	}{
		"nothing": {base, sqltext.Same},
		"another indentation": {
			"-- berths\nCREATE   TABLE berth\n(id int,\n name text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\n\n" +
				"SELECT 'a  b'  /* why */ ;\n",
			sqltext.OnlySpace,
		},
		"another comment": {
			"-- the berths\nCREATE TABLE berth (id int, name text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\n" +
				"SELECT 'a  b' /* why */;\n",
			sqltext.OnlyComments,
		},
		"a comment less": {
			"CREATE TABLE berth (id int, name text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\nSELECT 'a  b';\n",
			sqltext.OnlyComments,
		},
		"a blank within a string": {
			"-- berths\nCREATE TABLE berth (id int, name text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\n" +
				"SELECT 'a b' /* why */;\n",
			sqltext.WhatRuns,
		},
		"another column": {
			"-- berths\nCREATE TABLE berth (id int, title text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\n" +
				"SELECT 'a  b' /* why */;\n",
			sqltext.WhatRuns,
		},
		"a blank within COPY data": {
			"-- berths\nCREATE TABLE berth (id int, name text);\nCOPY berth FROM stdin;\n1\tNorth  quay\n\\.\n" +
				"SELECT 'a  b' /* why */;\n",
			sqltext.WhatRuns,
		},
		"a statement more": {base + "SELECT 1;", sqltext.WhatRuns},
		"a statement commented out": {
			"-- berths\nCREATE TABLE berth (id int, name text);\nCOPY berth FROM stdin;\n1\tNorth quay\n\\.\n" +
				"-- SELECT 'a  b' /* why */;\n",
			sqltext.WhatRuns,
		},
		"what cannot be cut": {base + "'", sqltext.WhatRuns},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, Compare([]byte(base), []byte(c.after))) })
	}
}
