package mariadb

import (
	_ "embed"
	"strings"
	"sync"

	"vorrang/core/review"
	"vorrang/target/words"
)

//go:embed rules.yaml
var rulesText []byte

var findings = sync.OnceValue(func() *review.Rules { return review.MustReadRules(rulesText) })

const (
	action  = `ALTER TABLE ` + words.T + ` `
	modify  = `(?:MODIFY (?:COLUMN )?` + words.N + `|CHANGE (?:COLUMN )?\S+ ` + words.N2 + `) `
	element = `(?:ELEMENT ` + words.T + ` |ALTER TABLE ` + words.T2 + ` ADD (?:COLUMN )?)`
)

// patterns find what rules.yaml explains.
var patterns = sync.OnceValue(func() []words.Pattern {
	return []words.Pattern{
		{Code: "readers.drop-table", Text: words.Unit(`DROP TABLE (?:IF EXISTS )?` + words.T + `$`), Breaks: true},
		{
			Code:   "readers.drop-column",
			Kind:   "column",
			Text:   words.Unit(action + `DROP (?:COLUMN )?(?:IF EXISTS )?` + words.N + `$`),
			Breaks: true,
		},
		{
			Code:  "readers.drop-view",
			Kind:  "view",
			Text:  words.Unit(`DROP VIEW (?:IF EXISTS )?` + words.N + `$`),
			Again: "view",
		},
		{
			Code: "readers.drop-routine", Kind: "routine", Again: "function|procedure",
			Text: words.Unit(`DROP (?:FUNCTION|PROCEDURE) (?:IF EXISTS )?` + words.N + `$`),
		},
		{
			Code: "readers.rename-table", Again: "view", Rewrite: words.ViewInstead,
			Text: words.Unit(
				`(?:ALTER TABLE ` + words.T + ` RENAME (?:TO |AS )?|RENAME TABLE ` + words.T2 + ` TO )(?P<new>[^\s]+)$`,
			),
		},
		{
			Code: "readers.rename-column", Kind: "column", Breaks: true, Differ: [2]string{"name", "new"},
			Text: words.Unit(action + `(?:RENAME COLUMN ` + words.N + ` TO |CHANGE (?:COLUMN )?` + words.N2 + ` )(?P<new>\S+)`),
		},
		{
			Code: "writers.required-column", Kind: "column", Unless: words.Unit(`.* (?:DEFAULT|AS|AUTO_INCREMENT)\b`),
			Text: words.Unit(action + `ADD (?:COLUMN )?(?:IF NOT EXISTS )?` + words.N + ` .*\bNOT NULL`),
		},
		{
			Code:   "writers.not-null",
			Kind:   "column",
			Text:   words.Unit(action + modify + `.*\bNOT NULL`),
			Unless: words.Unit(`.* (?:DEFAULT|AUTO_INCREMENT)\b`),
		},
		{Code: "writers.new-check", Text: words.Unit(action + `ADD (?:CONSTRAINT \S+ )?CHECK `)},
		{
			Code: "writers.new-unique",
			Text: words.Unit(
				`(?:CREATE UNIQUE INDEX \S+ ON ` + words.T + ` |ALTER TABLE ` + words.T2 +
					` ADD (?:CONSTRAINT (?:\S+ )?)?(?:UNIQUE|PRIMARY KEY))`,
			),
		},
		{Code: "writers.new-reference", Text: words.Unit(action + `ADD (?:CONSTRAINT (?:\S+ )?)?FOREIGN KEY `)},
		{
			Code: "writers.drop-default",
			Kind: "column",
			Text: words.Unit(action + `ALTER (?:COLUMN )?` + words.N + ` DROP DEFAULT`),
		},
		{
			Code: "writers.new-trigger",
			Kind: "trigger",
			Text: words.Unit(`CREATE (?:DEFINER = .* )?TRIGGER (?:IF NOT EXISTS )?` + words.N + ` .*? ON ` + words.T),
		},
		{
			Code: "writers.checks-off",
			Text: words.Unit(`SET (?:SESSION |@@(?:session\.)?)?(?:foreign_key_checks|unique_checks) = (?:0|OFF)`),
		},
		{
			Code: "blocks.full-text", Rows: true,
			Text: words.Unit(`(?:CREATE FULLTEXT INDEX \S+ ON ` + words.T + ` |ALTER TABLE ` + words.T2 + ` ADD FULLTEXT )`),
		},
		{Code: "blocks.check-scan", Text: words.Unit(action + `ADD (?:CONSTRAINT \S+ )?CHECK `), Rows: true},
		{Code: "blocks.reference-scan", Text: words.Unit(action + `ADD (?:CONSTRAINT (?:\S+ )?)?FOREIGN KEY `), Rows: true},
		{Code: "rewrites.column-type", Kind: "column", Text: words.Unit(action + modify), Rows: true},
		{Code: "rewrites.character-set", Text: words.Unit(action + `CONVERT TO (?:CHARACTER SET|CHARSET)`), Rows: true},
		{
			Code: "rewrites.stored-column", Kind: "column", Rows: true,
			Text: words.Unit(
				`(?P<head>ALTER TABLE ` + words.T + ` ADD (?:COLUMN )?` + words.N +
					` .* AS \(.*\)) (?:STORED|PERSISTENT)(?P<tail>.*)`,
			),
			Rewrite: func(group func(string) string) string {
				return strings.TrimSpace(group("head")+" VIRTUAL"+group("tail")) + ";"
			},
		},
		{Code: "rewrites.key", Text: words.Unit(action + `DROP PRIMARY KEY`), Rows: true},
		{
			Code: "rewrites.compacted",
			Text: words.Unit(
				`(?:ALTER TABLE ` + words.T + ` (?:FORCE|ENGINE (?:= )?InnoDB)$|OPTIMIZE (?:\w+ )?TABLE ` + words.T2 + `)`,
			),
			Rows: true,
		},
		{Code: "loses.truncate", Text: words.Unit(`TRUNCATE (?:TABLE )?` + words.T + `$`)},
		{Code: "loses.all-rows", Text: words.Unit(`DELETE (?:\w+ )*FROM ` + words.T + `$`)},
		{Code: "loses.replaced", Text: words.Unit(`REPLACE (?:\w+ )*?INTO ` + words.T)},
		{
			Code: "loses.delete-cascade",
			Any:  true,
			Text: words.Unit(`(?:ELEMENT|ALTER TABLE) ` + words.T + ` .*\bON DELETE CASCADE`),
		},
		{
			Code:   "rows.all-at-once",
			Rows:   true,
			Text:   words.Unit(`UPDATE (?:LOW_PRIORITY |IGNORE )*` + words.T + ` SET `),
			Unless: words.Unit(`.* (?:WHERE|LIMIT) `),
		},
		{
			Code: "table.no-key", Any: true,
			Text:   words.Unit(`CREATE (?:OR REPLACE )?TABLE (?:IF NOT EXISTS )?` + words.T + ` \(`),
			Unless: words.Unit(`.*\b(?:PRIMARY KEY|UNIQUE|LIKE)\b`),
		},
		{
			Code: "table.small-key", Any: true, Kind: "column",
			Text: words.Unit(
				`ELEMENT ` + words.T + ` ` + words.N + ` (?:TINYINT|SMALLINT|MEDIUMINT|INT|INTEGER)\b.*\bPRIMARY KEY`,
			),
		},
		{
			Code: "table.no-transactions",
			Any:  true,
			Text: words.Unit(
				`(?:CREATE (?:OR REPLACE )?|ALTER )TABLE (?:IF NOT EXISTS )?` + words.T +
					` .*\bENGINE (?:= )?(?:MyISAM|Aria|MEMORY|CSV|ARCHIVE)\b`,
			),
		},
		{
			Code: "type.short-utf8", Any: true,
			Text: words.Unit(
				`(?:CREATE (?:OR REPLACE )?TABLE (?:IF NOT EXISTS )?` + words.T + ` |ALTER TABLE ` + words.T2 +
					` ).*\b(?:CHARSET|CHARACTER SET) (?:= )?(?:utf8|utf8mb3|latin1|ascii)\b`,
			),
		},
		{Code: "type.ends-2038", Any: true, Kind: "column", Text: words.Unit(element + words.N + ` TIMESTAMP\b`)},
		{Code: "depends.if-missing", Any: true, Text: words.Unit(`CREATE (?:UNIQUE )?\w+ IF NOT EXISTS ` + words.T)},
		{
			Code:   "depends.definer",
			Text:   words.Unit(`CREATE (?:OR REPLACE )?(?:ALGORITHM = \w+ )?DEFINER = `),
			Unless: words.Unit(`.*DEFINER = CURRENT_`),
		},
		{Code: "names.case", Any: true, Text: capital},
	}
})

// capital finds a new table whose name has capitals; here case does matter.
var capital = words.CaseUnit(`(?i:CREATE(?: OR REPLACE)? TABLE(?: IF NOT EXISTS)? )(?P<table>[^ ]*[A-Z][^ ]*)`)
