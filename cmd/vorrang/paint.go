package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"
)

// paint colours text on a terminal, and leaves it alone elsewhere. Colour never
// carries a meaning alone.
type paint struct{ on bool }

func painter(w io.Writer) paint {
	return paint{on: isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"}
}

func isTerminal(w io.Writer) bool {
	file, isFile := w.(*os.File)
	return isFile && term.IsTerminal(int(file.Fd()))
}

func (p paint) with(code, text string) string {
	if !p.on || text == "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (p paint) bad(text string) string    { return p.with("1;31", text) }
func (p paint) warn(text string) string   { return p.with("33", text) }
func (p paint) good(text string) string   { return p.with("32", text) }
func (p paint) dim(text string) string    { return p.with("2", text) }
func (p paint) strong(text string) string { return p.with("1", text) }

// table aligns columns. A cell may be coloured; its width is that of its text.
type table struct {
	heads []string
	rows  [][]cell
}

type cell struct {
	text  string
	paint func(string) string
}

func plain(text string) cell { return cell{text, nil} }

// oneLine lets no text of a cell begin a row of its own.
var oneLine = strings.NewReplacer("\n", "⏎", "\t", " ")

func (t *table) add(cells ...cell) {
	for i := range cells {
		cells[i].text = oneLine.Replace(cells[i].text)
	}
	t.rows = append(t.rows, cells)
}

func (t *table) print(w io.Writer, p paint) {
	heads := make([]cell, len(t.heads))
	for i, head := range t.heads {
		heads[i] = cell{head, p.dim}
	}
	writeRows(w, append([][]cell{heads}, t.rows...))
}

// printRows leaves the heads out.
func (t *table) printRows(w io.Writer) { writeRows(w, t.rows) }

func writeRows(w io.Writer, rows [][]cell) {
	var widths []int
	for _, row := range rows {
		for i, c := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(c.text))
		}
	}
	for _, row := range rows {
		var b strings.Builder
		for i, c := range row {
			text := c.text
			if c.paint != nil {
				text = c.paint(text)
			}
			b.WriteString(text)
			if i < len(row)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c.text)+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// took writes a duration in milliseconds as people say it.
func took(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", ms)
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
}

// moment writes a time in UTC, to the second.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }
