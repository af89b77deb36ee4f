package main

import (
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"
)

// report says what was done, and what stayed level: the mean of the second quarter of the
// samples (the first is for warming up) against that of the last.
func (s *soak) report(d time.Duration) error {
	n := len(s.samples)
	if n < 8 {
		return fmt.Errorf("only %d samples: it was too short to say anything", n)
	}
	early, late := s.samples[n/4:n/2], s.samples[3*n/4:]
	var text strings.Builder
	fmt.Fprintf(&text, "`make soak`, %s on %s with %s, %d cores: %d services on the same records, %d lanes of three engines "+
		"and a fleet of %d targets, %d workers, %d restarts of one of them (every other one a kill). "+
		"The figures are of all services together.\n\n",
		d, time.Now().UTC().Format(time.DateOnly), runtime.Version(), runtime.NumCPU(), soakServices, soakLanes, soakFleet, soakWorkers,
		s.restarts)
	text.WriteString("| | second quarter | last quarter | |\n|---|---|---|---|\n")
	level := true
	for _, row := range []struct {
		what string
		of   func(sample) int64
		unit string
	}{
		{"memory", func(one sample) int64 { return one.memory }, " MiB"},
		{"goroutines", func(one sample) int64 { return one.goroutines }, ""},
		{"open files and connections", func(one sample) int64 { return one.files }, ""},
		{"sessions on PostgreSQL", func(one sample) int64 { return one.connections }, ""},
	} {
		was, is := mean(early, row.of), mean(late, row.of)
		word := "level"
		if is > was*5/4+8 {
			word, level = "**grows**", false
		}
		fmt.Fprintf(&text, "| %s | %d%s | %d%[3]s | %[5]s |\n", row.what, was, row.unit, is, word)
	}
	fmt.Fprintf(&text, "| entries in the targets' ledgers | %d | %d | they only grow |\n",
		mean(early, func(one sample) int64 { return one.entries }), mean(late, func(one sample) int64 { return one.entries }))
	first, last := s.samples[n/4], s.samples[n-1]
	if made := last.deployments - first.deployments; made > 0 {
		fmt.Fprintf(&text, "| the records, for each deployment | | %d KiB | kept until `-keep-details` |\n",
			(last.records-first.records)/made/1024)
	}
	text.WriteString("\nDone: ")
	var parts []string
	for _, what := range slices.Sorted(maps.Keys(s.done)) {
		parts = append(parts, fmt.Sprintf("%s %d", what, s.done[what]))
	}
	fmt.Fprintf(&text, "%s.\nUnexpected answers: %d.\n", strings.Join(parts, ", "), len(s.strange))
	fmt.Print(text.String())
	for _, one := range s.strange[:min(len(s.strange), 20)] {
		fmt.Println("  " + one)
	}
	if err := soakPart.write(text.String()); err != nil {
		return err
	}
	if !level || len(s.strange) > 0 {
		return fmt.Errorf("not level, or %d unexpected answers", len(s.strange))
	}
	return nil
}

func mean(samples []sample, of func(sample) int64) (sum int64) {
	for _, one := range samples {
		sum += of(one)
	}
	return sum / int64(len(samples))
}
