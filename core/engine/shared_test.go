package engine_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

func TestACheckHoldsWithOneRowOfTruth(t *testing.T) {
	ask := func(rows ...[]bool) (bool, string) {
		var a engine.Answer
		for _, row := range rows {
			if a.Row() {
				for _, value := range row {
					a.Value(value, map[bool]string{true: "true", false: strings.Repeat("ö", 70)}[value])
				}
			}
		}
		return a.Holds()
	}
	for _, c := range []struct {
		rows  [][]bool
		holds bool
		got   string
	}{
		{nil, false, "0 rows"},
		{[][]bool{{true, true}}, true, "(true, true)"},
		{[][]bool{{true, false}}, false, "(true, " + strings.Repeat("ö", 60) + ")"},
		{[][]bool{{true}, {true}}, false, "2 rows"},
	} {
		holds, got := ask(c.rows...)
		assert.Equal(t, c.holds, holds, c.got)
		assert.Equal(t, c.got, got)
	}
}

func TestWhatTheServerRefusesIsAnOutcome(t *testing.T) {
	check := []sqltext.Statement{
		{SQL: []byte("SELECT 1"), Line: 1},
		{SQL: []byte("SELECT nothing"), Line: 2},
		{SQL: []byte("gone"), Line: 3},
	}
	gone := errors.New("the connection is gone")
	holds := func(s sqltext.Statement) (bool, string, error) {
		switch s.Line {
		case 1:
			return true, "(true)", nil
		case 2:
			return true, "", &engine.ServerError{Message: "there is no column nothing"}
		}
		return false, "", gone
	}
	outcomes, err := engine.Outcomes(check[:2], holds)
	require.NoError(t, err)
	assert.Equal(t, []evidence.Outcome{{Query: "SELECT 1", Line: 1, Holds: true, Got: "(true)"},
		{Query: "SELECT nothing", Line: 2, Got: "an error: there is no column nothing"}}, outcomes)
	_, err = engine.Outcomes(check, holds)
	assert.ErrorIs(t, err, gone)
}
