package review_test

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// cut makes a statement of every line that is no comment. A line with ' only cannot be cut.
func cut(text []byte) (all []sqltext.Statement, err error) {
	offset := 0
	for i, line := range bytes.SplitAfter(text, []byte("\n")) {
		trimmed := bytes.TrimRight(line, ";\n")
		switch {
		case string(trimmed) == "'":
			return all, fmt.Errorf(
				"cutting: %w",
				&sqltext.Error{Offset: offset, Line: i + 1, Column: 1, Message: "a string is not closed"},
			)
		case string(trimmed) == "!":
			return nil, errors.New("the cutter gave up")
		case len(trimmed) > 0 && !bytes.HasPrefix(trimmed, []byte("--")):
			all = append(all, sqltext.Statement{Offset: offset, Line: i + 1, Column: 1, SQL: trimmed})
		}
		offset += len(line)
	}
	return all, nil
}

func file(t *testing.T, text string) *step.File {
	steps, err := step.ReadDir(fstest.MapFS{"1-create-berth.sql": {Data: []byte(text)}})
	require.NoError(t, err)
	return &steps[0].Forward
}

func TestEachFindingHasItsPlace(t *testing.T) {
	f := review.Files{Cut: cut}
	asked := []string{}
	f.Read(nil, nil)
	f.Read(
		file(t, "CREATE TABLE ·berth;\nDROP pilot;\n\nNOTE tide;\n"),
		func(i int, s sqltext.Statement) (refused, noted string) {
			asked = append(asked, fmt.Sprintf("%d %s", i, s.SQL))
			if strings.HasPrefix(string(s.SQL), "DROP") {
				return "it may not", ""
			}
			if strings.HasPrefix(string(s.SQL), "NOTE") {
				return "", "look at it"
			}
			f.Note(file(t, "CREATE TABLE ·berth;\nDROP pilot;\n\nNOTE tide;\n"), s, len("CREATE TABLE ·"), "a name")
			return "", ""
		},
	)
	assert.Equal(t, []string{"0 CREATE TABLE ·berth", "1 DROP pilot", "2 NOTE tide"}, asked)
	require.Len(t, f.Problems, 1)
	assert.Equal(t, "1-create-berth.sql:2:1: it may not", strings.SplitN(f.Problems[0].Error(), "\n", 2)[0])
	require.Len(t, f.Notes, 2)
	assert.Equal(
		t,
		[]any{1, 15, 4, 1},
		[]any{f.Notes[0].Line, f.Notes[0].Column, f.Notes[1].Line, f.Notes[1].Column},
		"columns are in characters",
	)
	assert.Equal(t, "NOTE tide;", f.Notes[1].Source)
}

func TestAFileThatCannotBeReadIsAProblem(t *testing.T) {
	for text, message := range map[string]string{
		"SELECT 1;\n'\n":             "2:1: a string is not closed",
		"!\n":                        "the cutter gave up",
		"-- nothing\n":               "holds comments, but no statement",
		"SELECT 'a';\nSELECT 'b';\n": "",
	} {
		f := review.Files{Cut: cut}
		f.Read(file(t, text), func(int, sqltext.Statement) (string, string) { return "", "" })
		if message == "" {
			assert.Empty(t, f.Problems, text)
			continue
		}
		require.Len(t, f.Problems, 1, text)
		assert.Contains(t, f.Problems[0].Error(), message, text)
	}
}

func TestWhatIsNotShownIsNoted(t *testing.T) {
	f := review.Files{Cut: cut}
	f.Read(file(t, "SELECT 1;\nSELECT 'a\u202Eb';\n"), func(int, sqltext.Statement) (string, string) { return "", "" })
	require.Len(t, f.Notes, 1)
	assert.Contains(t, f.Notes[0].Message, "the character U+202E stands here")
	assert.Equal(t, 2, f.Notes[0].Line)
}

func TestABatchComesToAnEnd(t *testing.T) {
	for _, c := range []struct {
		i       int
		change  review.Change
		message string
	}{
		{0, review.Change{Verb: "UPDATE", Where: true}, ""},
		{0, review.Change{Verb: "DELETE", Where: true}, ""},
		{0, review.Change{Verb: "INSERT", From: true}, ""},
		{0, review.Change{Verb: "MERGE"}, ""},
		{1, review.Change{Verb: "UPDATE", Where: true}, "put this one into a step of its own"},
		{0, review.Change{}, "mode batches repeats an UPDATE or DELETE until it changes no row"},
		{0, review.Change{Verb: "UPDATE"}, "without WHERE that never happens; name the rows that are left, as in " +
			"WHERE NOT done"},
		{0, review.Change{Verb: "DELETE", From: true}, "without WHERE that never happens"},
		{0, review.Change{Verb: "INSERT", Where: true}, "until it inserts no row"},
	} {
		message := review.Endless(c.i, c.change, "UPDATE or DELETE", "WHERE NOT done")
		if c.message == "" {
			assert.Empty(t, message, c.change)
		} else {
			assert.Contains(t, message, c.message, c.change)
		}
	}
}
