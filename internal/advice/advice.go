// Package advice words moves as command lines of the client. The client shows them, the
// console words them by the same table, and a test holds that each can be read.
package advice

import (
	"cmp"
	_ "embed"
	"encoding/json"
	"regexp"
	"strconv"
	"strings"

	"vorrang/core/remedy"
)

// commands says how each move is written: {…} stands for an argument, and what is in
// brackets is left out where its argument is empty. What only people know stands there
// as … or in capitals. What begins with + is added to the command that was refused.
//
//go:embed commands.json
var table []byte

var commands = func() map[remedy.Move]string {
	all := map[remedy.Move]string{}
	if err := json.Unmarshal(table, &all); err != nil {
		panic(err) // it is a part of the program
	}
	return all
}()

var (
	option   = regexp.MustCompile(` ?\[([^\]]*)\]`)
	argument = regexp.MustCompile(`\{(\w+)\}`)
)

// Command is a move as a command line.
func Command(move remedy.Move, a remedy.Arguments) string {
	release := a.Release
	if a.NewRelease {
		release = "NAME"
	}
	values := map[string]string{
		"lane":        a.Lane,
		"environment": a.Environment,
		"step":        string(a.Step),
		"to":          string(a.To),
		"as":          a.As,
		"release":     release,
		"name":        release,
		"number":      cmp.Or(string(a.Step), "N"),
		"steps":       a.Steps,
		"typed":       a.Typed,
		"person":      a.Person,
		"grant":       a.Grant,
	}
	if a.Last > 0 {
		values["last"] = strconv.Itoa(a.Last)
	}
	if release == "" {
		values["name"] = "NAME"
	}
	fill := func(text string) (filled string, whole bool) {
		whole = true
		filled = argument.ReplaceAllStringFunc(text, func(place string) string {
			name := strings.Trim(place, "{}")
			if name == "acknowledge" {
				whole = whole && a.Acknowledge
				return ""
			}
			whole = whole && values[name] != ""
			return values[name]
		})
		return filled, whole
	}
	text := option.ReplaceAllStringFunc(commands[move], func(part string) string {
		filled, whole := fill(strings.Trim(part, " []"))
		if !whole {
			return ""
		}
		return " " + filled
	})
	text, _ = fill(text)
	if added, is := strings.CutPrefix(text, "+ "); is {
		return "the same with " + added
	}
	return "vorrang " + text
}

// Text words what can be done.
func Text(remedies []remedy.Remedy) string { return remedy.Text(remedies, Command) }
