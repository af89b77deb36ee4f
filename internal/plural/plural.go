// Package plural writes numbers with their words.
package plural

import "strconv"

// Of is a number with a regular noun: "1 step", "2 steps".
func Of(n int, noun string) string { return Count(n, noun, noun+"s") }

// Count is a number with words that depend on it: "1 entry", "2 entries".
func Count(n int, one, many string) string { return strconv.Itoa(n) + " " + Word(n, one, many) }

// Word is the word alone.
func Word(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
