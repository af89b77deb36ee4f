package words

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Pattern finds something in a unit of a script: a statement, an action of an ALTER
// TABLE behind "ALTER TABLE name", or a column or constraint of a new table behind
// "ELEMENT name". Units are written in one way: a blank between all tokens but around a
// dot and inside strings, which are empty, and names without the quotes that they do not
// need.
type Pattern struct {
	Code   string
	Text   *regexp.Regexp // its groups may be: table, name, and what Rewrite asks for
	Kind   string         // what name is, such as column
	Unless *regexp.Regexp // a unit that has it has not the finding
	Differ [2]string      // groups that must not be equal
	Again  string         // what must be made with the name, in the script, for it to be none: view, routine
	Any    bool           // also of tables that the script makes
	Rows   bool           // how large the table is says how much it matters
	Breaks bool           // an application of the version before may use it
	// Rewrite gives a safe form; group gives what a group of Text found.
	Rewrite func(group func(name string) string) string
}

// N and T stand for a name in a pattern: of anything, and of a table.
const (
	anyName = `(?:[\w$]+\.)?(?:[\w$]+|"[^"]+"|` + "`[^`]+`" + `|\[[^\]]+\])`
	N       = `(?P<name>` + anyName + `)`
	T       = `(?P<table>` + anyName + `)`
	// N2 and T2 are the same in another branch of the pattern.
	N2 = `(?P<name2>` + anyName + `)`
	T2 = `(?P<table2>` + anyName + `)`
)

// Unit is a pattern's text: case does not matter, and it begins where the unit does.
func Unit(text string) *regexp.Regexp { return CaseUnit(`(?i)` + text) }

// CaseUnit is Unit where case matters.
func CaseUnit(text string) *regexp.Regexp { return regexp.MustCompile(`^` + text) }

// ViewInstead is a Rewrite of a table's new name, with a view under the old one: for
// patterns with the groups table and new.
func ViewInstead(group func(name string) string) string {
	return fmt.Sprintf(
		"ALTER TABLE %[1]s RENAME TO %[2]s;\nCREATE VIEW %[1]s AS SELECT * FROM %[2]s;", group("table"), group("new"),
	)
}

// Findings is a review.Reviewer that reads steps by patterns.
type Findings struct {
	*review.Steps
	Rules    *review.Rules
	Lexis    Rules
	Language review.Language
	Patterns []Pattern
	indexes  []index // of the script
}

type index struct {
	table, name string
	columns     []string
	unique      bool
	finding     *review.Finding
}

// pending is a finding that a later statement of the script may undo.
type pending struct {
	again, name string
	finding     review.Finding
}

// Read implements review.Reviewer.
func (f *Findings) Read(s step.Step) []review.Finding {
	script, err := f.Script(s, f.Rules, f.Language)
	if err != nil {
		return nil
	}
	f.indexes = nil
	var waiting []pending
	var schema, rows bool // it changes both
	script.Each(func() {
		units := f.units(script.Statement)
		for _, unit := range units {
			waiting = slices.DeleteFunc(waiting, func(p pending) bool { return made(unit, p) })
			waiting = append(waiting, f.unit(script, unit)...)
			f.index(script, unit)
		}
		if len(units) == 0 {
			return
		}
		changes := changesRows.MatchString(units[0])
		rows = rows || changes && script.InUse(tableOf(changesRows, units[0]))
		schema = schema || !changes && changesSchema.MatchString(units[0])
		if rows && schema && known(f.Rules, "rows.with-schema") && script.Once("mixed") {
			script.Find("rows.with-schema", "", "", "", "")
		}
	})
	for _, p := range waiting {
		script.Breaks(p.finding)
	}
	f.covered(script)
	return f.End(script)
}

var (
	changesRows   = Unit(`(?:INSERT|REPLACE|UPDATE|DELETE)(?: INTO| FROM| IGNORE| OR \w+)* ` + T)
	changesSchema = Unit(`(?:CREATE|ALTER|DROP|RENAME|TRUNCATE) `)
	createsTable  = Unit(`CREATE(?: OR REPLACE)?(?: TEMPORARY| TEMP| VIRTUAL)* TABLE (?:IF NOT EXISTS )?` + T)
)

func known(rules *review.Rules, code string) bool {
	_, is := rules.Of(code)
	return is
}

func tableOf(pattern *regexp.Regexp, unit string) string {
	found := pattern.FindStringSubmatch(unit)
	if at := pattern.SubexpIndex("table"); found != nil && at >= 0 {
		return found[at]
	}
	return ""
}

// made reports whether a unit makes again what waits for that.
func made(unit string, p pending) bool {
	text := strings.ToUpper(unit)
	return strings.HasPrefix(text, "CREATE ") &&
		slices.ContainsFunc(strings.Split(p.again, "|"), func(kind string) bool {
			return strings.Contains(text, " "+strings.ToUpper(kind)+" "+strings.ToUpper(p.name))
		})
}

// unit holds a unit against all patterns.
func (f *Findings) unit(s *review.Script, unit string) (waiting []pending) {
	for _, p := range f.Patterns {
		found := p.Text.FindStringSubmatch(unit)
		if found == nil || p.Unless != nil && p.Unless.MatchString(unit) {
			continue
		}
		group := func(name string) string {
			for _, branch := range []string{name, name + "2"} {
				if at := p.Text.SubexpIndex(branch); at >= 0 && found[at] != "" {
					return found[at]
				}
			}
			return ""
		}
		if one, other := p.Differ[0], p.Differ[1]; one != "" && strings.EqualFold(group(one), group(other)) {
			continue
		}
		table, name := group("table"), group("name")
		if !p.Any && table != "" && !s.InUse(table) {
			continue
		}
		object := ""
		switch {
		case p.Kind != "" && table != "":
			object = p.Kind + " " + table + "." + name
		case p.Kind != "":
			object = p.Kind + " " + name
		case table != "":
			object = "table " + table
		}
		near := lastPart(cmp.Or(name, table))
		rewrite := ""
		if p.Rewrite != nil {
			rewrite = p.Rewrite(group)
		}
		finding := s.About(p.Code, object, near, "", rewrite)
		if p.Rows {
			finding = s.Sized(finding, table)
		}
		if p.Again != "" {
			waiting = append(waiting, pending{p.Again, cmp.Or(name, table), finding})
			continue
		}
		if p.Breaks {
			s.Breaks(finding)
		} else {
			s.Add(finding)
		}
	}
	if table := tableOf(createsTable, unit); table != "" {
		s.Makes(table)
	}
	return waiting
}

// lastPart is a name without its schema and its quotes.
func lastPart(name string) string {
	return strings.Trim(name[strings.LastIndexByte(name, '.')+1:], "`\"[]")
}

var makesIndex = []*regexp.Regexp{
	Unit(`CREATE (?P<unique>UNIQUE )?INDEX (?:IF NOT EXISTS )?` + N + ` ON ` + T + ` \( (?P<columns>[^()]*) \)$`),
	Unit(`ALTER TABLE ` + T + ` ADD (?P<unique>UNIQUE )?(?:INDEX|KEY) ` + N + ` \( (?P<columns>[^()]*) \)$`),
	Unit(`ELEMENT ` + T + ` (?P<unique>UNIQUE )?(?:INDEX|KEY) ` + N + ` \( (?P<columns>[^()]*) \)$`),
	Unit(
		`(?:ELEMENT|ALTER TABLE) ` + T + ` (?:ADD )?(?:CONSTRAINT ` + N +
			` )?(?P<unique>PRIMARY KEY|UNIQUE) \( (?P<columns>[^()]*) \)$`,
	),
}

// index remembers an index that a unit makes.
func (f *Findings) index(s *review.Script, unit string) {
	for at, pattern := range makesIndex {
		found := pattern.FindStringSubmatch(unit)
		if found == nil {
			continue
		}
		group := func(name string) string { return found[pattern.SubexpIndex(name)] }
		made := index{table: group("table"), name: group("name"), unique: group("unique") != ""}
		for column := range strings.SplitSeq(group("columns"), " , ") {
			name, _, _ := strings.Cut(column, " ") // without its length and direction
			made.columns = append(made.columns, strings.ToLower(name))
		}
		const keys = 3 // in makesIndex
		if at != keys && known(f.Rules, "index.covered") {
			finding := s.About("index.covered", "index "+made.name, lastPart(made.name), "", "")
			made.finding = &finding
		}
		f.indexes = append(f.indexes, made)
		s.Goes("index "+lastPart(made.name), lastPart(made.table))
		return
	}
}

// covered finds the new indexes whose columns lead another new one's.
func (f *Findings) covered(s *review.Script) {
	for at, i := range f.indexes {
		if i.finding == nil || i.unique {
			continue
		}
		for other, o := range f.indexes {
			longer := len(o.columns) > len(i.columns) || len(o.columns) == len(i.columns) && (o.unique || other < at)
			if other != at && o.table == i.table && longer && slices.Equal(o.columns[:len(i.columns)], i.columns) {
				i.finding.Message = "the index or key " + o.name + " finds by the same columns"
				s.Add(*i.finding)
				break
			}
		}
	}
}

// units takes a statement apart.
func (f *Findings) units(statement sqltext.Statement) []string {
	w, _ := f.Lexis.Head(statement.SQL)
	whole := f.write(w.Tokens)
	units := []string{whole}
	if head := alters.FindString(whole); head != "" {
		units = nil
		w.At = len(f.headTokens(w.Tokens, 2))
		for _, part := range w.Parts() {
			units = append(units, "ALTER TABLE "+tableOf(alters, whole)+" "+f.write(part))
		}
		return units
	}
	if table := tableOf(createsTable, whole); table != "" {
		for w.More() && !w.Peek().Is("(") {
			w.Take()
		}
		if w.Pass("(") {
			for _, part := range w.Parts() {
				units = append(units, "ELEMENT "+table+" "+f.write(part))
			}
		}
	}
	return units
}

var alters = Unit(`ALTER(?: ONLINE| IGNORE)* TABLE (?:IF EXISTS )?` + T + ` `)

// headTokens are those of "ALTER TABLE name", with what may stand between.
func (f *Findings) headTokens(tokens []Token, words int) []Token {
	at := 0
	for at < len(tokens) && !tokens[at].Is("TABLE") {
		at++
	}
	at++
	if at+1 < len(tokens) && tokens[at].Is("IF") {
		at += words
	}
	at++ // the name, or what stands before its dot
	if at < len(tokens) && tokens[at].Is(".") {
		at += words
	}
	return tokens[:min(at, len(tokens))]
}

var plainName = regexp.MustCompile(`^[A-Za-z_][\w$]*$`)

// write writes tokens in the one way that patterns are made for.
func (f *Findings) write(tokens []Token) string {
	var b strings.Builder
	for i, t := range tokens {
		raw := string(t.Raw())
		switch {
		case t.Kind == Text:
			raw = "''"
		case t.Kind == Quoted && plainName.MatchString(t.Name()):
			raw = t.Name()
		}
		if i > 0 && !t.Is(".") && !tokens[i-1].Is(".") {
			b.WriteByte(' ')
		}
		b.WriteString(raw)
	}
	return b.String()
}
