package mariadb

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/target/words"
)

// Snapshot implements engine.Session. It reads the texts by which the server would make
// each object again. The server has no one state of its catalogs to read: what changes
// meanwhile is seen or not.
func (s *Session) Snapshot(ctx context.Context, _ []string) (schema.Schema, error) {
	r := catalog{Session: s, ctx: ctx}
	for _, read := range []func() error{r.tables, r.views, r.triggers, r.routines, r.packages, r.events} {
		if err := read(); err != nil {
			return schema.Schema{}, fmt.Errorf("read the schema: %w", err)
		}
	}
	return schema.New(r.objects, r.uncovered), nil
}

// SnapshotWithNeeds implements engine.Session: a draft finds out by itself what needs
// what.
func (s *Session) SnapshotWithNeeds(ctx context.Context, schemas []string) (schema.Schema, error) {
	return s.Snapshot(ctx, schemas)
}

type catalog struct {
	*Session
	ctx       context.Context
	objects   []schema.Object
	uncovered []schema.Uncovered
}

func (r *catalog) add(kind schema.Kind, name, of string, props schema.Props) {
	for key, value := range props {
		if value == "" {
			delete(props, key)
		}
	}
	r.objects = append(r.objects, schema.Object{Kind: kind, Name: name, Of: of, Props: props})
}

// shown is the text by which the server would make an object; empty for one that went
// meanwhile.
func (r *catalog) shown(kind, name string, column int) (text string, err error) {
	err = r.own.each(r.ctx, "SHOW CREATE "+kind+" "+quoted(name), nil, func(row []string) error {
		text = row[column]
		return nil
	})
	var refused *engine.ServerError
	if errors.As(err, &refused) && refused.Kind == engine.Missing {
		return "", nil
	}
	return text, err
}

func (r *catalog) tables() error {
	var names, sequences []string
	err := r.own.each(
		r.ctx,
		`SELECT TABLE_NAME, TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()
			AND TABLE_TYPE <> 'VIEW' AND TABLE_NAME <> ? ORDER BY TABLE_NAME`,
		[]any{ledgerTable},
		func(row []string) error {
			if row[1] == "SEQUENCE" {
				sequences = append(sequences, row[0])
			} else {
				names = append(names, row[0])
			}
			return nil
		},
	)
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := r.shown("TABLE", name, 1)
		if err != nil {
			return err
		}
		if text != "" {
			r.objects = append(r.objects, tableOf(name, text)...)
		}
	}
	return r.sequences(sequences)
}

func (r *catalog) sequences(names []string) error {
	for _, name := range names {
		text, err := r.shown("SEQUENCE", name, 1)
		if err != nil {
			return err
		}
		r.add(schema.Sequence, plainName(name), "", schema.Props{schema.Definition: plain(text)})
	}
	return nil
}

func (r *catalog) views() error {
	return r.own.each(
		r.ctx,
		`SELECT TABLE_NAME, VIEW_DEFINITION, DEFINER, SECURITY_TYPE, ALGORITHM, CHECK_OPTION FROM information_schema.VIEWS
			WHERE TABLE_SCHEMA = DATABASE()`,
		nil,
		func(row []string) error {
			if row[1] == "" {
				return fmt.Errorf(
					"user %s may not read the text of the view %s: GRANT SHOW VIEW ON %s.* TO %[1]s",
					r.config.User, row[0], quoted(r.config.DBName),
				)
			}
			props := schema.Props{
				schema.Definition:  plain(strings.ReplaceAll(row[1], quoted(r.config.DBName)+".", "")),
				schema.OwnedByRole: row[2],
			}
			if row[3] != "DEFINER" {
				props[schema.Security] = row[3]
			}
			if row[4] != "UNDEFINED" {
				props[schema.Algorithm] = row[4]
			}
			if row[5] != "NONE" {
				props[schema.Check] = row[5]
			}
			r.add(schema.View, plainName(row[0]), "", props)
			return nil
		},
	)
}

func (r *catalog) triggers() error {
	return r.own.each(
		r.ctx,
		`SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_STATEMENT, DEFINER,
			ACTION_ORDER, SQL_MODE FROM information_schema.TRIGGERS
		WHERE TRIGGER_SCHEMA = DATABASE() AND EVENT_OBJECT_TABLE <> ?`,
		[]any{ledgerTable},
		func(row []string) error {
			table := plainName(row[1])
			props := schema.Props{schema.OwnedByRole: row[5],
				schema.Definition: fmt.Sprintf(
					"CREATE TRIGGER %s %s %s ON %s FOR EACH ROW %s",
					plainName(row[0]), row[2], row[3], table, row[4],
				)}
			if row[6] != "1" {
				props[schema.FiresAt] = row[6]
			}
			props[schema.SQLMode] = unusual(row[7])
			r.add(schema.Trigger, table+"."+plainName(row[0]), table, props)
			return nil
		},
	)
}

// definer is in the text of a routine, and differs by environment.
var definer = regexp.MustCompile("^CREATE DEFINER=(`(?:[^`]|``)*`(?:@`(?:[^`]|``)*`)?) ")

func (r *catalog) routines() error {
	type routine struct{ name, kind, mode string }
	var all []routine
	err := r.own.each(
		r.ctx,
		`SELECT ROUTINE_NAME, ROUTINE_TYPE, SQL_MODE FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()
			AND ROUTINE_TYPE IN ('FUNCTION', 'PROCEDURE')`,
		nil,
		func(row []string) error {
			all = append(all, routine{row[0], row[1], row[2]})
			return nil
		},
	)
	if err != nil {
		return err
	}
	for _, one := range all {
		text, err := r.shown(one.kind, one.name, 2)
		if err != nil {
			return err
		}
		if text == "" {
			return fmt.Errorf(
				"user %s may not read the text of %s %s: GRANT SHOW CREATE ROUTINE, or SELECT ON mysql.proc",
				r.config.User, strings.ToLower(one.kind), one.name,
			)
		}
		owner := ""
		if found := definer.FindStringSubmatch(text); found != nil {
			owner, text = found[1], "CREATE "+text[len(found[0]):]
		}
		r.add(
			schema.Function,
			plainName(one.name)+"()",
			"",
			schema.Props{schema.Definition: text, schema.OwnedByRole: owner, schema.Is: strings.ToLower(one.kind),
				schema.SQLMode: unusual(one.mode)},
		)
	}
	return nil
}

// packages are counted and named, not described.
func (r *catalog) packages() error {
	found := schema.Uncovered{What: "package"}
	err := r.own.each(
		r.ctx,
		`SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()
			AND ROUTINE_TYPE = 'PACKAGE' ORDER BY 1`,
		nil,
		func(row []string) error {
			const named = 5
			if found.Count++; found.Count <= named {
				found.Names = append(found.Names, row[0])
			}
			return nil
		},
	)
	if found.Count > 0 {
		r.uncovered = append(r.uncovered, found)
	}
	return err
}

// events are described but for when they begin and end: the server writes the moment of
// their making where a statement gives none, and that differs by environment.
func (r *catalog) events() error {
	return r.own.each(
		r.ctx,
		`SELECT EVENT_NAME, DEFINER, EVENT_TYPE, INTERVAL_VALUE, INTERVAL_FIELD, EXECUTE_AT, STATUS, ON_COMPLETION,
			EVENT_COMMENT,
		EVENT_DEFINITION, SQL_MODE FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()`,
		nil,
		func(row []string) error {
			if row[9] == "" {
				return fmt.Errorf("user %s may not read the text of event %s: GRANT EVENT ON %s.* TO %[1]s",
					r.config.User, row[0], quoted(r.config.DBName))
			}
			schedule := fmt.Sprintf("EVERY %s %s", row[3], row[4])
			if strings.ContainsAny(row[3], " :.-") { // of several units
				schedule = fmt.Sprintf("EVERY %s %s", literal(strings.Trim(row[3], "'")), row[4])
			}
			if row[2] == "ONE TIME" {
				schedule = "AT " + literal(row[5])
			}
			text := fmt.Sprintf("CREATE EVENT %s ON SCHEDULE %s", plainName(row[0]), schedule)
			if row[7] == "PRESERVE" {
				text += " ON COMPLETION PRESERVE"
			}
			switch row[6] {
			case "DISABLED":
				text += " DISABLE"
			case "SLAVESIDE_DISABLED":
				text += " DISABLE ON SLAVE"
			}
			if row[8] != "" {
				text += " COMMENT " + literal(row[8])
			}
			r.add(schema.Event, plainName(row[0]), "", schema.Props{
				schema.Definition: text + " DO " + plain(row[9]), schema.OwnedByRole: row[1], schema.SQLMode: unusual(row[10]),
			})
			return nil
		},
	)
}

var counter = regexp.MustCompile(` AUTO_INCREMENT=\d+`)

// tableOf reads the text of a table: the server writes a line for each column, key and
// constraint.
func tableOf(name, text string) []schema.Object {
	name = plainName(name)
	_, rest, _ := strings.Cut(text, "(\n")
	body, options, _ := strings.Cut(rest, "\n)")
	options, partitioned, _ := strings.Cut(options, "\n")
	objects := []schema.Object{{Kind: schema.Table, Name: name, Props: schema.Props{}}}
	about := objects[0].Props
	if options = strings.TrimSpace(counter.ReplaceAllString(options, "")); options != "" {
		about["options"] = options
	}
	if partitioned != "" {
		about["partitioned"] = strings.Join(strings.Fields(partitioned), " ")
	}
	columns := 0
	for line := range strings.SplitSeq(body, "\n") {
		line = strings.TrimSuffix(strings.TrimSpace(line), ",")
		w := rules.Walk([]byte(line))
		o := schema.Object{Of: name, Props: schema.Props{}}
		switch first := w.Take(); {
		case first.Kind == words.Quoted:
			columns++
			o.Kind, o.Name, o.Place = schema.Column, name+"."+plainName(first.Name()), columns
			o.Props = columnOf(w, line)
		case first.Is("PRIMARY"):
			o.Kind, o.Name = schema.Constraint, name+".PRIMARY"
			o.Props[schema.Definition] = plain(line)
		case first.Is("CONSTRAINT"):
			local := w.Take()
			o.Kind, o.Name = schema.Constraint, name+"."+plainName(local.Name())
			o.Props[schema.Definition] = plain(strings.TrimSpace(line[local.To:]))
		case first.Is("PERIOD"):
			o.Kind, o.Name = schema.Constraint, name+".PERIOD"
			o.Props[schema.Definition] = plain(line)
		default: // UNIQUE KEY, KEY, FULLTEXT KEY, SPATIAL KEY
			word := ""
			if !first.Is("KEY") {
				word = string(first.Raw()) + " "
				w.Take()
			}
			local := w.Take()
			o.Kind, o.Name = schema.Index, name+"."+plainName(local.Name())
			o.Props[schema.Definition] = word + plain(strings.TrimSpace(line[local.To:]))
		}
		objects = append(objects, o)
	}
	return objects
}

// columnOf reads what stands after a column's name, in the order in which the server
// writes it: type, collation, generated, null, default, and the rest.
func columnOf(w *words.Walk, line string) schema.Props {
	props := schema.Props{}
	take := func(key schema.Property, until ...string) {
		from := w.Peek().From
		to := from
		for w.More() && !w.Peek().Any(until...) {
			if w.Peek().Is("(") {
				group := w.Group()
				to = group[len(group)-1].To
			} else {
				to = w.Take().To
			}
		}
		if text := strings.TrimSpace(line[from:to]); text != "" {
			props[key] = text
		}
	}
	rest := []string{
		"NOT", "NULL", "DEFAULT", "ON", "AUTO_INCREMENT", "INVISIBLE", "WITHOUT", "COMMENT", "CHECK", "REF_SYSTEM_ID",
	}
	take(schema.DataType, append([]string{"CHARACTER", "COLLATE", "GENERATED", "AS"}, rest...)...)
	take(schema.Collated, append([]string{"GENERATED", "AS"}, rest...)...)
	take(schema.Generated, rest...)
	switch {
	case w.Pass("NOT", "NULL"):
		props[schema.Null] = "no"
	case w.Pass("NULL"):
	}
	if w.Pass("DEFAULT") {
		take(schema.Default, "ON", "AUTO_INCREMENT", "INVISIBLE", "WITHOUT", "COMMENT", "CHECK")
		if props[schema.Default] == "NULL" { // which goes without saying
			delete(props, schema.Default)
		}
	}
	take(schema.Options)
	for key, value := range props {
		props[key] = plain(value)
	}
	return props
}

// plain writes names without the quotes that they do not need, and a space after each
// comma between them.
func plain(text string) string {
	var b strings.Builder
	at := 0
	tokens := rules.Tokens([]byte(text))
	for i, t := range tokens {
		b.WriteString(text[at:t.From])
		raw := string(t.Raw())
		if t.Kind == words.Quoted {
			raw = plainName(t.Name())
		}
		b.WriteString(raw)
		if at = t.To; t.Is(",") && i+1 < len(tokens) && tokens[i+1].From == t.To && tokens[i+1].Kind == words.Quoted {
			b.WriteByte(' ')
		}
	}
	b.WriteString(text[at:])
	return b.String()
}

var simple = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// plainName is how a name is written: in quotes only where it needs them.
func plainName(name string) string {
	if simple.MatchString(name) && !reserved[strings.ToUpper(name)] {
		return name
	}
	return quoted(name)
}

// reserved are the words that cannot stand for a name.
// Source: https://mariadb.com/kb/en/reserved-words/
var reserved = func() map[string]bool {
	all := map[string]bool{}
	for _, word := range strings.Fields(`ACCESSIBLE ADD ALL ALTER ANALYZE
		AND AS ASC ASENSITIVE BEFORE BETWEEN BIGINT BINARY BLOB BOTH BY CALL CASCADE CASE CHANGE CHAR CHARACTER
		CHECK COLLATE COLUMN CONDITION CONSTRAINT CONTINUE CONVERT
			CREATE CROSS CURRENT_DATE CURRENT_ROLE CURRENT_TIME CURRENT_TIMESTAMP CURRENT_USER CURSOR DATABASE DATABASES
		DAY_HOUR DAY_MICROSECOND DAY_MINUTE DAY_SECOND DEC DECIMAL DECLARE DEFAULT DELAYED DELETE DELETE_DOMAIN_ID DESC DESCRIBE DETERMINISTIC DISTINCT DISTINCTROW DIV
		DO_DOMAIN_IDS DOUBLE DROP DUAL EACH
			ELSE ELSEIF ENCLOSED ESCAPED EXCEPT EXISTS EXIT EXPLAIN FALSE FETCH FLOAT FLOAT4 FLOAT8 FOR FORCE FOREIGN
			FROM FULLTEXT GENERAL
		GRANT GROUP HAVING HIGH_PRIORITY HOUR_MICROSECOND HOUR_MINUTE HOUR_SECOND IF IGNORE IGNORE_DOMAIN_IDS IGNORE_SERVER_IDS IN INDEX INFILE INNER INOUT INSENSITIVE INSERT
		INT INT1 INT2 INT3 INT4 INT8 INTEGER INTERSECT INTERVAL INTO IS ITERATE JOIN KEY KEYS KILL LEADING LEAVE LEFT LIKE
			LIMIT LINEAR LINES LOAD LOCALTIME LOCALTIMESTAMP LOCK
		LONG LONGBLOB LONGTEXT LOOP LOW_PRIORITY MASTER_HEARTBEAT_PERIOD MASTER_SSL_VERIFY_SERVER_CERT MATCH MAXVALUE MEDIUMBLOB MEDIUMINT MEDIUMTEXT MIDDLEINT
		MINUTE_MICROSECOND MINUTE_SECOND MOD MODIFIES NATURAL NOT NO_WRITE_TO_BINLOG NULL NUMERIC OFFSET ON OPTIMIZE OPTIONALLY OR ORDER OUT OUTER OUTFILE OVER PAGE_CHECKSUM
		PARSE_VCOL_EXPR PARTITION PRECISION PRIMARY PROCEDURE PURGE RANGE READ READS READ_WRITE REAL RECURSIVE REFERENCES REF_SYSTEM_ID REGEXP RELEASE RENAME REPEAT REPLACE
		REQUIRE RESIGNAL RESTRICT RETURN RETURNING REVOKE RIGHT RLIKE ROW_NUMBER ROWS SCHEMA SCHEMAS SECOND_MICROSECOND
			SELECT SENSITIVE SEPARATOR SET SHOW SIGNAL SLOW SMALLINT
		SPATIAL SPECIFIC SQL SQLEXCEPTION SQLSTATE SQLWARNING SQL_BIG_RESULT SQL_CALC_FOUND_ROWS SQL_SMALL_RESULT SSL STARTING STATS_AUTO_RECALC STATS_PERSISTENT
		STATS_SAMPLE_PAGES STRAIGHT_JOIN TABLE TERMINATED THEN TINYBLOB TINYINT TINYTEXT TO TRAILING TRIGGER TRUE UNDO
			UNION UNIQUE UNLOCK UNSIGNED UPDATE USAGE USE USING
		UTC_DATE UTC_TIME UTC_TIMESTAMP VALUES VARBINARY VARCHAR VARCHARACTER VARYING WHEN
			WHERE WHILE WINDOW WITH WRITE XOR YEAR_MONTH ZEROFILL`) {
		all[word] = true
	}
	return all
}()
