package deploy

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Failure says why a step stopped, and where in its file.
type Failure struct {
	// place
	Step      step.Number `json:"step,omitempty"`
	File      string      `json:"file,omitempty"`
	Line      int         `json:"line,omitempty" description:"From 1; absent where no place is known."`
	Column    int         `json:"column,omitempty" description:"From 1, in characters."`
	Statement int         `json:"statement,omitempty"`
	Of        int         `json:"of,omitempty"`

	// the line itself, shortened around the caret
	Source string `json:"source,omitempty"`
	Caret  int    `json:"caret,omitempty" description:"In source, in characters from 1."`

	// the server's words
	Message  string `json:"message"`
	Detail   string `json:"detail,omitempty"`
	Hint     string `json:"hint,omitempty"`
	Where    string `json:"where,omitempty"`
	SQLState string `json:"sqlstate,omitempty"`

	Blockers []engine.Blocker `json:"blockers,omitempty" description:"The sessions that held the lock that was not granted."`

	Lost   bool   `json:"lost,omitempty" description:"The connection to the target is gone."`
	Partly bool   `json:"partly,omitempty" description:"This deployment ran some of the step, and that stays."`
	Left   string `json:"left,omitempty" description:"What the failure left in the target."`

	kind    engine.Kind
	ended   bool // the script ended the transaction itself
	half    int  // how many statements of an autocommit script took effect, where not all did
	stopped bool // nothing failed: the service stops between two batches
}

func (f *Failure) Error() string {
	switch {
	case f.File == "":
		return f.Message
	case f.Line == 0:
		return f.File + ": " + f.Message
	}
	return fmt.Sprintf("%s:%d:%d: %s", f.File, f.Line, f.Column, f.Message)
}

// Text is the failure as a terminal shows it: the place, the line with a
// caret, and the server's words.
func (f *Failure) Text() string {
	var b strings.Builder
	b.WriteString(f.Error())
	if f.SQLState != "" {
		fmt.Fprintf(&b, " (%s)", engine.Code(f.SQLState))
	}
	b.WriteByte('\n')
	b.WriteString(step.Excerpt(f.Line, f.Source, f.Caret))
	for _, part := range []struct{ label, text string }{
		{"detail", f.Detail}, {"hint", f.Hint}, {"where", f.Where}, {"held by", inWords(f.Blockers, "\n")},
		{"left behind", f.Left},
	} {
		if part.text != "" {
			fmt.Fprintf(&b, "%s: %s\n", part.label, strings.ReplaceAll(part.text, "\n", "\n  "))
		}
	}
	return b.String()
}

// failureOf describes an error of a statement in a step's file.
func failureOf(number step.Number, file string, text []byte, s sqltext.Statement, err error) *Failure {
	f := &Failure{Step: number, File: file, Message: err.Error()}
	offset := s.Offset
	var server *engine.ServerError
	var lost *engine.LostError
	var ended *engine.EndedError
	f.ended = errors.As(err, &ended)
	switch {
	case errors.As(err, &server):
		f.Message, f.Detail, f.Hint = server.Message, server.Detail, server.Hint
		f.Where, f.SQLState, f.kind = server.Where, server.SQLState, server.Kind
		offset += sqltext.CharOffset(s.SQL, server.Position)
		if s.IsCopy {
			offset = copyOffset(s, text, server, offset)
		}
	case errors.As(err, &lost):
		f.Lost = true
	}
	f.Line, f.Column = step.Position(text, offset)
	f.Source, f.Caret = step.SourceLine(text, offset)
	return f
}

var copyLine = regexp.MustCompile(`(?m)^COPY .*, line (\d+)`)

// copyOffset finds the data line that the server's context names. The context begins
// with the innermost, which may be a COPY of a trigger's own; ours is the last.
func copyOffset(s sqltext.Statement, text []byte, server *engine.ServerError, offset int) int {
	found := copyLine.FindAllStringSubmatch(server.Where, -1)
	if len(found) == 0 || len(s.CopyData) == 0 {
		return offset
	}
	line, _ := strconv.Atoi(found[len(found)-1][1])
	at := s.DataOffset
	for ; line > 1; line-- {
		next := bytes.IndexByte(text[at:], '\n')
		if next < 0 {
			break
		}
		at += next + 1
	}
	return at
}
