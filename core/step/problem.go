package step

import (
	"fmt"
	"strings"
)

// Problem is one thing that is wrong in a step folder or lane file. Line and
// Column count from 1; both are 0 where the whole file is meant.
type Problem struct {
	File    string `json:"file" description:"The file, as named in the folder."`
	Line    int    `json:"line,omitempty" description:"Counted from 1; absent where the whole file is meant."`
	Column  int    `json:"column,omitempty" description:"Counted from 1, in characters."`
	Message string `json:"message" description:"What is wrong, and what to do."`

	Source string `json:"source,omitempty" description:"The line itself, shortened around the place."`
	Caret  int    `json:"caret,omitempty" description:"In source, in characters from 1."`
}

// In is the problem with its line: text is the file's, and offset the place. A line and
// a column that it has already are taken as right.
func (p Problem) In(text []byte, offset int) Problem {
	if p.Line == 0 {
		p.Line, p.Column = Position(text, offset)
	}
	p.Source, p.Caret = SourceLine(text, offset)
	return p
}

// Text is the problem as a terminal shows it, with its line and a caret.
func (p Problem) Text() string { return p.Error() + "\n" + Excerpt(p.Line, p.Source, p.Caret) }

func (p Problem) Error() string {
	switch {
	case p.File == "":
		return p.Message
	case p.Line == 0:
		return fmt.Sprintf("%s: %s", p.File, p.Message)
	default:
		return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
	}
}

// Problems is every problem that was found, so that all can be fixed at once.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// orNil keeps an empty Problems from becoming a non-nil error.
func (ps Problems) orNil() error {
	if len(ps) == 0 {
		return nil
	}
	return ps
}
