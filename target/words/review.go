package words

import (
	"bytes"
	"errors"
	"fmt"
	"unicode/utf8"

	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/visible"
)

// Review collects what of a step could not run, and what is to be noted.
type Review struct {
	Cut             func([]byte) ([]sqltext.Statement, error)
	Problems, Notes step.Problems
}

// File cuts a file, and asks about every statement why it is refused, and what is to be
// noted. It does nothing for a file that is not there.
func (r *Review) File(file *step.File, ask func(i int, s sqltext.Statement) (refused, noted string)) {
	if file == nil {
		return
	}
	text := file.Text()
	add := func(to *step.Problems, offset int, message string) {
		if message != "" {
			*to = append(*to, step.Problem{File: file.Name, Message: message}.In(text, offset))
		}
	}
	if at := bytes.IndexFunc(text, visible.Hidden); at >= 0 {
		found, _ := utf8.DecodeRune(text[at:])
		add(&r.Notes, at, fmt.Sprintf("the character U+%04X stands here: it is not shown, and can change how what stands beside it is shown; look at the text byte by byte", found))
	}
	statements, err := r.Cut(text)
	var place *sqltext.Error
	switch {
	case errors.As(err, &place):
		add(&r.Problems, place.Offset, place.Message)
	case len(statements) == 0:
		r.Problems = append(r.Problems, step.Problem{File: file.Name, Message: "holds comments, but no statement; write its SQL, or delete the file"})
	}
	for i, s := range statements {
		refused, noted := ask(i, s)
		add(&r.Problems, s.Offset, refused)
		add(&r.Notes, s.Offset, noted)
	}
}

// Change is a statement as far as a step of mode batches depends on it.
type Change struct {
	Verb  string // INSERT, UPDATE or DELETE; empty for other statements
	Where bool   // it names its rows
	From  bool   // it selects what it inserts from somewhere
}

// Endless says why the statement with an index of a step of mode batches would not come
// to an end; empty for one that does.
func Endless(i int, c Change, example string) string {
	switch {
	case i > 0:
		return "mode batches repeats one statement; put this one into a step of its own"
	case c.Verb == "":
		return "mode batches repeats an UPDATE, DELETE or INSERT until it changes no row; for other statements use mode: autocommit or transaction"
	case c.Verb != "INSERT" && !c.Where:
		return "mode batches repeats the statement until it changes no row, and without WHERE that never happens; name the rows that are left, as in " + example
	case c.Verb == "INSERT" && !c.From:
		return "mode batches repeats the statement until it inserts no row; select the rows that are left FROM somewhere"
	}
	return ""
}

// Names reports whether any token of a statement is a name that is of interest.
func (r Rules) Names(s sqltext.Statement, is func(name string) bool) bool {
	for _, t := range r.Tokens(s.SQL) {
		if (t.Kind == Word || t.Kind == Quoted) && is(t.Name()) {
			return true
		}
	}
	return false
}
