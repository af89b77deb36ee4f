package sqltext_test

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/sqltext"
)

func TestQuotes(t *testing.T) {
	for text, want := range map[string]string{"": "''", "it's": "'it''s'", `a\b`: `E'a\\b'`, `'\`: `E'''\\'`} {
		assert.Equal(t, want, sqltext.Literal(text))
	}
	assert.Equal(t, `"the ""Heron"""`, sqltext.Identifier(`the "Heron"`))
}

func TestAPlaceInAStatementIsAPlaceInItsFile(t *testing.T) {
	s := sqltext.Statement{Line: 3, Column: 5, SQL: []byte("SELECT 'Grå',\n  'é' x\n")}
	for at, want := range map[int][2]int{0: {3, 5}, 12: {3, 16}, 15: {4, 1}, 21: {4, 6}, 24: {5, 1}, 99: {5, 1}} {
		line, column := s.Place(at)
		assert.Equal(t, want, [2]int{line, column}, "%d bytes in", at)
	}
}

func TestNothingMovesBehindABatchsNumber(t *testing.T) {
	const text = "DELETE FROM tide WHERE id IN (SELECT id FROM tide LIMIT :batch) -- :batch"
	s := sqltext.Statement{SQL: []byte(text), Batch: []int{56}}
	assert.True(t, s.HasBatch())
	assert.Equal(
		t,
		"DELETE FROM tide WHERE id IN (SELECT id FROM tide LIMIT 500   ) -- :batch",
		string(s.WithBatch(500).SQL),
	)
	assert.Equal(
		t,
		"DELETE FROM tide WHERE id IN (SELECT id FROM tide LIMIT 10000000) -- :batch",
		string(s.WithBatch(10_000_000).SQL),
	)
	assert.Equal(t, text, string(s.SQL), "the statement stays as it is")
	assert.False(t, s.WithBatch(1).HasBatch())
}

func TestAServersPositionCountsCharacters(t *testing.T) {
	for position, offset := range map[int]int{0: 0, 1: 0, 2: 1, 3: 3, 4: 4, 99: 5} {
		assert.Equal(t, offset, sqltext.CharOffset([]byte("aåbc"), position), "position %d", position)
	}
}

func TestASumTellsWhatRan(t *testing.T) {
	total := func(all ...sqltext.Statement) string {
		var sum sqltext.Sum
		for _, s := range all {
			sum.Add(s)
		}
		return sum.Total()
	}
	one, two := sqltext.Statement{SQL: []byte("SELECT 1")}, sqltext.Statement{SQL: []byte("SELECT 2")}
	assert.Equal(t, total(one, two), total(one, two))
	for what, other := range map[string]string{
		"another order": total(two, one), "one less": total(one), "none": total(),
		"both in one":           total(sqltext.Statement{SQL: []byte("SELECT 1SELECT 2")}),
		"data in place of text": total(one, sqltext.Statement{CopyData: []byte("SELECT 2")}),
	} {
		assert.NotEqual(t, total(one, two), other, what)
	}
	assert.Equal(
		t,
		"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
		total(), "the SHA-256 of nothing",
	)
}

func TestWhatIsLostWithASession(t *testing.T) {
	statements := []sqltext.Statement{
		{SQL: []byte("SELECT 1"), Line: 1},
		{SQL: []byte("INSERT INTO tide VALUES (1)"), Line: 2},
	}
	lost := sqltext.Lost{What: "temporary table", Name: "tide", Line: 3, Needs: regexp.MustCompile(`\btide\b`)}
	assert.Equal(t, "the temporary table tide (line 3)", lost.String())
	needs, found := lost.NeededBy(statements)
	assert.True(t, found)
	assert.Equal(t, 2, needs.Line)
	_, found = lost.NeededBy(statements[:1])
	assert.False(t, found)
	needs, found = sqltext.Lost{What: "advisory lock", Line: 1}.NeededBy(statements)
	assert.True(t, found, "whatever follows may need it")
	assert.Equal(t, 1, needs.Line)
}

func TestAnErrorSaysWhere(t *testing.T) {
	assert.EqualError(
		t,
		&sqltext.Error{Line: 2, Column: 9, Message: "a string is not closed"},
		"2:9: a string is not closed",
	)
}
