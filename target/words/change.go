package words

import "vorrang/core/review"

// Change is a statement that changes rows, as far as its words tell.
type Change struct {
	review.Change
	Table   string
	Limit   bool // LIMIT is in it, outside of parentheses
	Replace bool // rows with the same key give way: REPLACE, INSERT OR REPLACE
	Upserts bool // rows with the same key are changed: ON DUPLICATE KEY UPDATE, ON CONFLICT DO UPDATE
}

// ReadChange reads a statement that changes rows, or a query after WITH, for which Verb
// is empty. modifiers goes past what may stand between a verb and its table.
func ReadChange(w *Walk, modifiers func(c *Change, w *Walk)) Change {
	var c Change
	depth := 0
	for w.More() {
		t := w.Take()
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case depth > 0:
		case t.Is("WHERE"):
			c.Where = true
		case t.Is("LIMIT"):
			c.Limit = true
		case t.Is("FROM"):
			c.From = true
			if c.Verb == "DELETE" && c.Table == "" {
				_, c.Table = w.Name()
			}
		case c.Verb == "INSERT" && (t.Is("DUPLICATE") && w.Pass("KEY", "UPDATE") || t.Is("DO") && w.Pass("UPDATE")):
			c.Upserts = true
		case c.Verb != "":
		case t.Any("SELECT", "VALUES"):
			return c
		case t.Is("UPDATE"):
			c.Verb = "UPDATE"
			modifiers(&c, w)
			_, c.Table = w.Name()
		case t.Any("INSERT", "REPLACE"):
			c.Verb, c.Replace = "INSERT", t.Is("REPLACE")
			modifiers(&c, w)
			_, c.Table = w.Name()
		case t.Is("DELETE"):
			c.Verb = "DELETE"
		}
	}
	return c
}

// Loses is what a change takes away for good.
func (c Change) Loses() []string {
	switch {
	case c.Replace:
		return []string{"overwrites rows of " + c.Table + " that have the same key"}
	case c.Upserts:
		return []string{"overwrites values of rows of " + c.Table + " that have the same key"}
	case c.Verb == "UPDATE":
		return []string{"overwrites values of " + c.Table}
	case c.Verb == "DELETE":
		return []string{"deletes rows of " + c.Table}
	}
	return nil
}
