package records

// ListQuery says which of a list are wanted; an empty field means all. Lists by name go on
// after a name, lists by time before a number.
type ListQuery struct {
	Search string // stands in what the list's comment says; upper and lower case are the same
	After  string // only those whose names come later
	Before int64  // only those with a lower number
	Limit  int    // 0 means all
}

// most is the limit as PostgreSQL takes it: LIMIT NULL is none.
func (q ListQuery) most() *int {
	if q.Limit == 0 {
		return nil
	}
	return &q.Limit
}

// containing is the condition that a text, of which column is the SQL, has the search in it
// that parameter is the number of.
func containing(column, parameter string) string {
	return `(` + parameter + ` = '' OR strpos(lower(` + column + `), lower(` + parameter + `)) > 0)`
}
