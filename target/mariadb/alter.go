package mariadb

import (
	"vorrang/core/evidence"
	"vorrang/target/words"
)

func alter(w *words.Walk) shape {
	kind, word := kindOfObject(w)
	if kind == "" {
		return about(word)
	}
	w.Pass("IF", "EXISTS")
	schema, name := w.Name()
	if schema != "" {
		return shape{verb: beyond, what: "a database that is named, " + schema}
	}
	is := shape{verb: defines, effects: []effect{{Object: evidence.Object{Kind: kind, Name: name}, does: needs}}}
	if kind != evidence.Table {
		return is
	}
	for _, part := range w.Parts() {
		alteration(&is, &words.Walk{Tokens: part}, name)
	}
	return is
}

// alteration reads one part of an ALTER TABLE.
func alteration(is *shape, p *words.Walk, table string) {
	add := func(o evidence.Object, does doing, to string) {
		is.effects = append(is.effects, effect{Object: o, does: does, to: to})
	}
	of := func(kind evidence.Kind, name string) evidence.Object {
		return evidence.Object{Kind: kind, Of: table, Name: name}
	}
	switch {
	case p.Pass("ADD"):
		p.Pass("COLUMN")
		p.Pass("IF", "NOT", "EXISTS")
		if p.Pass("(") {
			for _, e := range parts(p, table) {
				add(e.Object, makes, "")
			}
		} else if o, known := partOf(p, table); known {
			add(o, makes, "")
		}
	case p.Pass("DROP"):
		kind := evidence.Column
		switch {
		case p.Pass("INDEX"), p.Pass("KEY"):
			kind = evidence.Index
		case p.Pass("CONSTRAINT"), p.Pass("FOREIGN", "KEY"):
			kind = evidence.Constraint
		case p.Pass("PRIMARY"), p.Pass("PARTITION"), p.Pass("PERIOD"), p.Pass("SYSTEM"):
			return
		default:
			p.Pass("COLUMN")
		}
		p.Pass("IF", "EXISTS")
		name := p.Take().Name()
		add(of(kind, name), drops, "")
		if kind == evidence.Column {
			is.loses = append(is.loses, "drops the column "+table+"."+name)
		}
	case p.Pass("RENAME", "COLUMN"):
		p.Pass("IF", "EXISTS")
		from := p.Take().Name()
		p.Pass("TO")
		add(of(evidence.Column, from), renames, p.Take().Name())
	case p.Pass("RENAME", "INDEX"), p.Pass("RENAME", "KEY"):
		p.Pass("IF", "EXISTS")
		from := p.Take().Name()
		p.Pass("TO")
		add(of(evidence.Index, from), renames, p.Take().Name())
	case p.Pass("RENAME"):
		if !p.Pass("TO") {
			p.Pass("AS")
		}
		add(evidence.Object{Kind: evidence.Table, Name: table}, renames, p.Take().Name())
	case p.Pass("CHANGE"):
		p.Pass("COLUMN")
		p.Pass("IF", "EXISTS")
		from, to := p.Take().Name(), p.Take().Name()
		if from == to {
			add(of(evidence.Column, from), needs, "")
		} else {
			add(of(evidence.Column, from), renames, to)
		}
		is.loses = append(is.loses, "rewrites the column "+table+"."+to+" in another type")
	case p.Pass("MODIFY"):
		p.Pass("COLUMN")
		p.Pass("IF", "EXISTS")
		name := p.Take().Name()
		add(of(evidence.Column, name), needs, "")
		is.loses = append(is.loses, "rewrites the column "+table+"."+name+" in another type")
	}
}
