package postgres

import (
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf8"

	"github.com/jackc/pgx/v5/pgproto3"
)

const (
	mostWords  = 16 << 10 // bytes of one part of a server's error or notice: message, detail, hint, context
	mostReport = 16 * mostWords
	mostRow    = 1 << 20 // bytes of a row that a step's statement returns; a larger one is dropped
)

// messages reads a server's messages, and bounds what of them comes into memory:
// a step's SQL decides how long they are. Notifications, which nobody hears, and
// the large rows of steps are dropped; long words of errors and notices are cut.
//
// Source: https://www.postgresql.org/docs/18/protocol-message-formats.html
type messages struct {
	from  io.Reader
	steps bool // rows are the steps', which nobody reads

	buffer [16 << 10]byte
	out    []byte // that can be given on
	err    error  // once out is given on

	head  []byte // of a message whose length is not known yet
	kind  byte   // of the message under way
	left  int    // bytes of it
	does  byte   // what is done with them: passes, drops, cuts
	words []byte // the cut message, as far as it is known
	word  int    // bytes of its part under way that were seen; the part's code is the first
}

const (
	passes = iota
	drops
	cuts
)

// readingBounded lets a connection read through messages.
func readingBounded(steps bool) func(r io.Reader, w io.Writer) *pgproto3.Frontend {
	return func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		return pgproto3.NewFrontend(&messages{from: r, steps: steps}, w)
	}
}

// Read implements io.Reader.
func (m *messages) Read(p []byte) (int, error) {
	for len(m.out) == 0 {
		if m.err != nil {
			err := m.err
			m.err = nil // a deadline passes, and the connection may go on
			return 0, err
		}
		if m.left > 0 && m.does == passes {
			n, err := m.from.Read(p[:min(len(p), m.left)])
			m.left -= n
			return n, err
		}
		n, err := m.from.Read(m.buffer[:])
		m.err, m.out = err, m.out[:0]
		m.take(m.buffer[:n])
	}
	n := copy(p, m.out)
	m.out = m.out[n:]
	return n, nil
}

// take goes through what came.
func (m *messages) take(in []byte) {
	const headSize = 5 // a kind, and the length without it
	for len(in) > 0 {
		if m.left == 0 {
			n := min(headSize-len(m.head), len(in))
			m.head, in = append(m.head, in[:n]...), in[n:]
			if len(m.head) == headSize {
				m.begin(m.head[0], int(binary.BigEndian.Uint32(m.head[1:]))-4)
				m.head = m.head[:0]
			}
			continue
		}
		n := min(m.left, len(in))
		switch m.does {
		case passes:
			m.out = append(m.out, in[:n]...)
		case cuts:
			m.cut(in[:n])
		}
		m.left, in = m.left-n, in[n:]
		if m.left == 0 && m.does == cuts {
			m.out = binary.BigEndian.AppendUint32(append(m.out, m.kind), uint32(len(m.words)+4))
			m.out = append(m.out, m.words...)
		}
	}
}

// begin decides what becomes of a message.
func (m *messages) begin(kind byte, size int) {
	m.kind, m.left, m.does = kind, max(size, 0), passes
	switch {
	case kind == 'A', kind == 'D' && m.steps && size > mostRow: // a notification, a row
		m.does = drops
	case (kind == 'E' || kind == 'N') && size > mostWords: // an error, a notice
		m.does, m.words, m.word = cuts, nil, 0
	}
	if m.does == passes {
		m.out = append(m.out, m.head...)
	}
}

// cut takes parts of an error: a code and text, each ended by a zero byte, and at
// last a zero byte alone.
func (m *messages) cut(in []byte) {
	for _, c := range in {
		switch {
		case len(m.words) > mostReport && !(c == 0 && m.word == 0):
			if m.word++; c == 0 {
				m.word = 0
			}
		case c != 0 && m.word <= mostWords:
			m.words = append(m.words, c)
			m.word++
		case c != 0:
			m.word++
		default:
			if more := m.word - 1 - mostWords; more > 0 {
				m.words = append(wholeText(m.words), fmt.Sprintf(" … (cut here; %d more bytes)", more)...)
			}
			m.words, m.word = append(m.words, 0), 0
		}
	}
}

// wholeText drops the beginning of a character at a text's end.
func wholeText(text []byte) []byte {
	for i := 1; i <= utf8.UTFMax && i <= len(text); i++ {
		if c := text[len(text)-i]; utf8.RuneStart(c) {
			if !utf8.FullRune(text[len(text)-i:]) {
				return text[:len(text)-i]
			}
			break
		}
	}
	return text
}
