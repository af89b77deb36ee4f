// Package plural writes numbers with their nouns.
package plural

import "fmt"

// Of is a number with a regular noun: "1 step", "2 steps".
func Of(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
