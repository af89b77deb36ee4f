package step

import (
	"fmt"
	"strings"
)

// Number is a step's place in the order, in canonical form: runs of digits
// without leading zeros, joined by dots. "0007" and "7" are both Number("7").
// The zero value is no number.
type Number string

// Beginning is the point before the first step. No step has this number.
const Beginning = Number("0")

const longestNumber = 100 // characters

// ParseNumber reads a number as people write it, leading zeros allowed.
func ParseNumber(text string) (Number, error) {
	if text == "" {
		return "", fmt.Errorf("a step number is missing; write digits, or digits joined by dots, such as 12 or 2.1")
	}
	if len(text) > longestNumber {
		return "", fmt.Errorf("a step number of %d characters is too long; it may have %d", len(text), longestNumber)
	}
	runs := strings.Split(text, ".")
	for i, run := range runs {
		if run == "" || strings.Trim(run, "0123456789") != "" {
			return "", fmt.Errorf(
				"%q is not a step number; write digits, or digits joined by dots, such as 12 or 2.1",
				text,
			)
		}
		runs[i] = strings.TrimLeft(run[:len(run)-1], "0") + run[len(run)-1:]
	}
	return Number(strings.Join(runs, ".")), nil
}

// Compare orders numbers run by run, as numbers: 2 < 2.1 < 10. Runs may have
// any length. The empty Number sorts before all others.
func Compare(a, b Number) int {
	restA, restB := string(a), string(b)
	for restA != "" && restB != "" {
		var runA, runB string
		runA, restA, _ = strings.Cut(restA, ".")
		runB, restB, _ = strings.Cut(restB, ".")
		if len(runA) != len(runB) {
			return len(runA) - len(runB)
		}
		if order := strings.Compare(runA, runB); order != 0 {
			return order
		}
	}
	return len(restA) - len(restB) // the shorter one is the prefix of the other
}

// Next returns the number after n for a new step: its first run plus one, so
// that 2.1 is followed by 3.
func (n Number) Next() Number {
	if n == "" {
		return "1"
	}
	first, _, _ := strings.Cut(string(n), ".")
	digits := []byte(first)
	for i := len(digits) - 1; i >= 0; i-- {
		if digits[i] < '9' {
			digits[i]++
			return Number(digits)
		}
		digits[i] = '0'
	}
	return Number("1" + string(digits))
}
