package main

import (
	"fmt"
	"os"
	"strings"
)

// part is what is written by a program in a page that people write: what stands between two
// comments.
type part struct{ page, by string }

var (
	benchPart = part{"docs/benchmarks.md", "make bench"}
	soakPart  = part{"docs/reliability.md", "make soak"}
)

// write puts text in place of what was written before.
func (p part) write(text string) error {
	begin, end := "<!-- written by "+p.by+" -->\n", "<!-- end of what "+p.by+" wrote -->\n"
	page, err := os.ReadFile(p.page)
	if err != nil {
		return err
	}
	before, rest, found := strings.Cut(string(page), begin)
	_, after, ended := strings.Cut(rest, end)
	if !found || !ended {
		return fmt.Errorf("%s has no place for it: no line %q before one %q", p.page, begin, end)
	}
	return os.WriteFile(p.page, []byte(before+begin+text+end+after), 0o644)
}
