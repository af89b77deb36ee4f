package sqlite

import (
	_ "embed"
	"sync"

	"vorrang/core/review"
	"vorrang/target/words"
)

//go:embed rules.yaml
var rulesText []byte

var findings = sync.OnceValue(func() *review.Rules { return review.MustReadRules(rulesText) })

// patterns find what rules.yaml explains.
var patterns = sync.OnceValue(func() []words.Pattern {
	return []words.Pattern{
		{Code: "readers.drop-table", Text: words.Unit(`DROP TABLE (?:IF EXISTS )?` + words.T + `$`), Breaks: true},
		{
			Code: "readers.drop-column", Kind: "column", Breaks: true,
			Text: words.Unit(`ALTER TABLE ` + words.T + ` DROP (?:COLUMN )?` + words.N + `$`),
		},
		{
			Code:  "readers.drop-view",
			Text:  words.Unit(`DROP VIEW (?:IF EXISTS )?` + words.N + `$`),
			Kind:  "view",
			Again: "view",
		},
		{
			Code: "readers.rename-table", Text: words.Unit(`ALTER TABLE ` + words.T + ` RENAME TO (?P<new>\S+)$`), Again: "view",
			Rewrite: words.ViewInstead,
		},
		{
			Code: "readers.rename-column", Kind: "column", Breaks: true,
			Text: words.Unit(
				`ALTER TABLE ` + words.T + ` RENAME (?:COLUMN )?` + words.N + ` TO `,
			), Unless: words.Unit(`ALTER TABLE \S+ RENAME TO `),
		},
		{
			Code: "writers.required-column", Kind: "column", Unless: words.Unit(`.* DEFAULT `),
			Text: words.Unit(`ALTER TABLE ` + words.T + ` ADD (?:COLUMN )?` + words.N + ` .*\bNOT NULL`),
		},
		{
			Code: "writers.new-unique",
			Text: words.Unit(`CREATE UNIQUE INDEX (?:IF NOT EXISTS )?` + words.N + ` ON ` + words.T),
			Kind: "index",
		},
		{
			Code: "writers.new-trigger",
			Text: words.Unit(`CREATE TRIGGER (?:IF NOT EXISTS )?` + words.N + ` .*?\bON ` + words.T),
			Kind: "trigger",
		},
		{Code: "loses.all-rows", Text: words.Unit(`DELETE FROM ` + words.T + `$`)},
		{Code: "loses.replaced", Text: words.Unit(`(?:REPLACE|INSERT OR REPLACE) INTO ` + words.T)},
		{
			Code:   "rows.all-at-once",
			Text:   words.Unit(`UPDATE (?:OR \w+ )?` + words.T + ` SET `),
			Unless: words.Unit(`.* WHERE `),
		},
		{
			Code: "table.any-value", Text: words.Unit(`CREATE TABLE (?:IF NOT EXISTS )?` + words.T + ` \(.*\)`), Any: true,
			Unless: words.Unit(`.*\).*\bSTRICT\b`),
		},
		{Code: "depends.if-missing", Text: words.Unit(`CREATE (?:UNIQUE )?\w+ IF NOT EXISTS ` + words.T), Any: true},
	}
})
