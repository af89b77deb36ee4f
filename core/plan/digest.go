package plan

import (
	"encoding/json"

	"vorrang/core/step"
)

// Digests tell plans apart: for each action the lower-case hexadecimal SHA-256 of
// the plan up to and with it. Two plans with the same digest run the same texts,
// from the same statements, in the same order.
func (p Plan) Digests() []string {
	digests := make([]string, len(p.Actions))
	before := step.Sum([]byte(p.Direction))
	for i, a := range p.Actions {
		text, err := json.Marshal(a)
		if err != nil {
			panic(err) // plain values only
		}
		before = step.Sum(append([]byte(before), text...))
		digests[i] = string(before)
	}
	return digests
}

// Digest is that of the whole plan; empty where there is nothing to do.
func (p Plan) Digest() string {
	digests := p.Digests()
	if len(digests) == 0 {
		return ""
	}
	return digests[len(digests)-1]
}
