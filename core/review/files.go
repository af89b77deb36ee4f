package review

import (
	"bytes"
	"errors"
	"fmt"
	"unicode/utf8"

	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/visible"
)

// Files reads the files of a step one after the other, and collects what of them could
// not run, and what is to be noted.
type Files struct {
	Cut             func([]byte) ([]sqltext.Statement, error)
	Problems, Notes step.Problems
}

// Read cuts a file, and asks about every statement why it is refused, and what is to be
// noted. It does nothing for a file that is not there.
func (f *Files) Read(file *step.File, ask func(i int, s sqltext.Statement) (refused, noted string)) {
	if file == nil {
		return
	}
	text := file.Text()
	if at := bytes.IndexFunc(text, visible.Hidden); at >= 0 {
		found, _ := utf8.DecodeRune(text[at:])
		f.Notes = append(f.Notes, step.Problem{File: file.Name,
			Message: fmt.Sprintf(
				"the character U+%04X stands here: it is not shown, and can change how what stands beside it is shown; read the "+
					"text byte by byte",
				found,
			)}.In(text, at))
	}
	statements, err := f.Cut(text)
	var place *sqltext.Error
	switch {
	case errors.As(err, &place):
		f.Problems = append(f.Problems, step.Problem{File: file.Name, Message: place.Message}.In(text, place.Offset))
	case err != nil:
		f.Problems = append(f.Problems, step.Problem{File: file.Name, Message: err.Error()})
	case len(statements) == 0:
		f.Problems = append(
			f.Problems,
			step.Problem{
				File:    file.Name,
				Message: "holds comments, but no statement; write its SQL, or delete the file",
			},
		)
	}
	for i, s := range statements {
		refused, noted := ask(i, s)
		if refused != "" {
			f.Problems = append(f.Problems, within(file, s, 0, refused))
		}
		if noted != "" {
			f.Note(file, s, 0, noted)
		}
	}
}

// Note notes something about a statement of a file, at an offset in the statement.
func (f *Files) Note(file *step.File, s sqltext.Statement, at int, message string) {
	f.Notes = append(f.Notes, within(file, s, at, message))
}

func within(file *step.File, s sqltext.Statement, at int, message string) step.Problem {
	line, column := s.Place(at)
	return step.Problem{File: file.Name, Line: line, Column: column, Message: message}.In(file.Text(), s.Offset+at)
}

// Change is a statement as far as a step of mode batches depends on it.
type Change struct {
	Verb  string // INSERT, UPDATE, DELETE or MERGE; empty for other statements
	Where bool   // it names its rows
	From  bool   // it selects what it inserts from somewhere
}

// Endless says why the statement with an index of a step of mode batches would not come
// to an end; empty for one that does. repeats are the verbs that the server knows, such
// as "UPDATE or DELETE".
func Endless(i int, c Change, repeats, example string) string {
	switch {
	case i > 0:
		return "mode batches repeats one statement; put this one into a step of its own"
	case c.Verb == "":
		return "mode batches repeats an " + repeats + " until it changes no row; for other statements use mode: " +
			"autocommit or transaction"
	case (c.Verb == "UPDATE" || c.Verb == "DELETE") && !c.Where:
		return "mode batches repeats the statement until it changes no row, and without WHERE that never happens; name " +
			"the rows that are left, as in " + example
	case c.Verb == "INSERT" && !c.From:
		return "mode batches repeats the statement until it inserts no row; select the rows that are left FROM somewhere"
	}
	return ""
}
