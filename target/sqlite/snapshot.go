package sqlite

import (
	"context"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/target/words"
)

// Snapshot implements engine.Session. It reads the texts that SQLite keeps, as one
// consistent state.
func (s *Session) Snapshot(ctx context.Context, _ []string) (schema.Schema, error) {
	seen, err := s.own.snapshot(ctx)
	if err != nil {
		return schema.Schema{}, fmt.Errorf("read the schema: %w", err)
	}
	return seen, nil
}

// SnapshotWithNeeds implements engine.Session.
func (s *Session) SnapshotWithNeeds(ctx context.Context, schemas []string) (schema.Schema, error) {
	return s.Snapshot(ctx, schemas)
}

// texts are those that SQLite keeps of a schema.
const texts = `SELECT type, name, tbl_name, sql FROM main.sqlite_schema WHERE sql IS NOT NULL AND` + applications

// Mark implements engine.Marker: the texts that SQLite keeps, unread.
func (s *Session) Mark(ctx context.Context) (string, error) {
	sum := sha256.New()
	err := s.own.query(ctx, texts, nil, func(row []driver.Value) error {
		fmt.Fprintf(sum, "%q\n", row)
		return nil
	})
	if err != nil {
		return "", fmt.Errorf("read what the schema is written as: %w", err)
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

func (c *conn) snapshot(ctx context.Context) (seen schema.Schema, err error) {
	if err := c.exec(ctx, "BEGIN"); err != nil {
		return schema.Schema{}, err
	}
	defer func() { err = errors.Join(err, c.rollback()) }()
	shadows := map[string]bool{} // what a virtual table keeps its rows in
	err = c.query(
		ctx,
		`SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'shadow'`,
		nil,
		func(row []driver.Value) error {
			shadows[str(row[0])] = true
			return nil
		},
	)
	if err != nil {
		return schema.Schema{}, err
	}
	var objects []schema.Object
	err = c.query(
		ctx,
		texts,
		nil,
		func(row []driver.Value) error {
			if on := str(row[2]); !shadows[on] {
				objects = append(objects, objectsOf(str(row[0]), str(row[1]), on, str(row[3]))...)
			}
			return nil
		},
	)
	return schema.New(objects, nil), err
}

// objectsOf are what one text of the schema describes.
func objectsOf(kind, name, on, sql string) []schema.Object {
	name, on = plainName(name), plainName(on)
	w := rules.Walk([]byte(sql))
	define := func(kind schema.Kind, name, of string) []schema.Object {
		return []schema.Object{
			{Kind: kind, Name: name, Of: of, Props: schema.Props{schema.Definition: inWords(w.Tokens)}},
		}
	}
	switch kind {
	case "index":
		return define(schema.Index, name, on)
	case "view":
		return define(schema.View, name, "")
	case "trigger":
		return define(schema.Trigger, on+"."+name, on)
	}
	for w.More() && !w.Pass("(") {
		if w.Pass("VIRTUAL") {
			return define(schema.Table, name, "")
		}
		w.At++
	}
	return readTable(w).objects(name)
}

func (t table) objects(name string) []schema.Object {
	about := schema.Props{}
	if len(t.options) > 0 {
		about["options"] = strings.Join(t.options, ", ")
	}
	objects := []schema.Object{{Kind: schema.Table, Name: name, Props: about}}
	for i, c := range t.columns {
		props := schema.Props{}
		for key, value := range (schema.Props{schema.DataType: c.typ, schema.Default: c.value,
			schema.Generated: c.generated, schema.Collated: c.collation}) {
			if value != "" {
				props[key] = value
			}
		}
		if c.notNull {
			props[schema.Null] = "no"
		}
		if c.increments {
			props[schema.Identity] = "AUTOINCREMENT"
		}
		objects = append(
			objects,
			schema.Object{
				Kind:  schema.Column,
				Name:  name + "." + plainName(c.name),
				Of:    name,
				Place: i + 1,
				Props: props,
			},
		)
	}
	seen := map[string]int{} // the same constraint can stand there twice
	for _, c := range t.constraints {
		local := plainName(c.name)
		if c.name == "" {
			local = c.definition
		}
		if seen[local]++; seen[local] > 1 {
			local = fmt.Sprintf("%s (%d)", local, seen[local])
		}
		objects = append(
			objects,
			schema.Object{
				Kind:  schema.Constraint,
				Name:  name + "." + local,
				Of:    name,
				Props: schema.Props{schema.Definition: c.definition},
			},
		)
	}
	return objects
}

// sessionOf reads what statements leave in their connection.
func sessionOf(statements []sqltext.Statement) sqltext.Session {
	var left sqltext.Session
	for _, s := range statements {
		switch is := shapeOf(s); {
		case is.verb == sets:
			left.Again = append(left.Again, s)
		case is.verb == creates && is.temporary:
			left.Lost = append(
				left.Lost,
				sqltext.Lost{
					What:  "temporary " + string(is.kind),
					Name:  is.name,
					Line:  s.Line,
					Needs: words.Mention(is.name),
				},
			)
		case is.verb == drops:
			for i, lost := range left.Lost {
				if strings.EqualFold(lost.Name, is.name) {
					left.Lost = append(left.Lost[:i:i], left.Lost[i+1:]...)
					break
				}
			}
		}
	}
	return left
}
