package main

import (
	"flag"
	"slices"
)

// mode is a flag that has its command do another thing than without it.
type mode struct {
	flag string
	own  []string // flags that count only with it
	also []string // flags that count with it as well as without
}

// everywhere are the flags that count whatever a command does: they say where, and in which form.
var everywhere = []string{"json", "server", "lane", "env", "to", "target"}

// mode declares a flag that has the command do another thing. What own names counts only with it; of the
// other flags only those that also names count with it.
func (e *env) mode(flag string, own []string, also ...string) {
	e.modes = append(e.modes, mode{flag, own, also})
}

// astray refuses a flag that would not count beside the others: what somebody has said is done, or nothing is.
func (e *env) astray() error {
	var given []string
	e.flags.Visit(func(f *flag.Flag) {
		if f.Value.String() != "false" {
			given = append(given, f.Name)
		}
	})
	if e.twoNames && slices.Contains(given, toFlag) && slices.Contains(given, "env") {
		return usage("say one of -to and -env")
	}
	for _, m := range e.modes {
		on := slices.Contains(given, m.flag)
		for _, name := range given {
			switch {
			case on && name != m.flag && !slices.Contains(slices.Concat(everywhere, m.own, m.also), name):
				return usage("-%s does not count with -%s", name, m.flag)
			case !on && slices.Contains(m.own, name):
				return usage("-%s counts only with -%s", name, m.flag)
			}
		}
	}
	return nil
}
