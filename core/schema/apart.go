package schema

import (
	"cmp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Words are the sides of a change for people: what they differ by, and a word
// where a side has no value.
func (c Change) Words() (before, after string) {
	before, after = Apart(c.Before, c.After)
	if c.Name == "null" { // as the server keeps it: no, or nothing
		return nullable(before), nullable(after)
	}
	return cmp.Or(before, "none"), cmp.Or(after, "none")
}

func nullable(value string) string {
	if value == "no" {
		return "not allowed"
	}
	return "allowed"
}

// mostApart is how much of two long values is shown, in bytes.
const mostApart = 120

// Apart is what two values of a property differ by, on one line each: where they
// are long, what they have in common before and after is left out.
func Apart(before, after string) (string, string) {
	before, after = strings.Join(strings.Fields(before), " "), strings.Join(strings.Fields(after), " ")
	if len(before) <= mostApart && len(after) <= mostApart || before == "" || after == "" {
		return clip(before), clip(after)
	}
	head := 0
	for head < min(len(before), len(after)) && before[head] == after[head] {
		head++
	}
	tail := 0
	for tail < min(len(before), len(after))-head && before[len(before)-1-tail] == after[len(after)-1-tail] {
		tail++
	}
	const around = 20 // bytes of what is equal, for orientation
	return window(before, head-around, len(before)-tail+around), window(after, head-around, len(after)-tail+around)
}

// window is a part of a text, with an ellipsis where something was left out. It
// begins and ends with a whole word where there is one near.
func window(text string, from, to int) string {
	from, to = max(from, 0), min(to, len(text))
	for from > 0 && !utf8.RuneStart(text[from]) {
		from--
	}
	for to < len(text) && !utf8.RuneStart(text[to]) {
		to++
	}
	part := clip(text[from:to])
	if from > 0 {
		part = "…" + strings.TrimLeftFunc(part, unicode.IsSpace)
	}
	if to < len(text) && !strings.HasSuffix(part, "…") {
		part += "…"
	}
	return part
}

func clip(text string) string {
	if len(text) <= mostApart {
		return text
	}
	to := mostApart
	for !utf8.RuneStart(text[to]) {
		to--
	}
	return text[:to] + "…"
}
