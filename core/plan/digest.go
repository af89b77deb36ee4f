package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
)

// Digests tell plans apart: for each action the lower-case hexadecimal SHA-256 of
// the plan up to and with it. Two plans with the same digest run the same texts,
// from the same statements, in the same order.
func (p Plan) Digests() []string {
	digests := make([]string, len(p.Actions))
	sum := sha256.Sum256([]byte(p.Direction))
	for i, a := range p.Actions {
		text, err := json.Marshal(a)
		if err != nil {
			panic(err) // plain values only
		}
		sum = sha256.Sum256(append(sum[:], text...))
		digests[i] = hex.EncodeToString(sum[:])
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
