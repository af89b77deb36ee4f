package ledger

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"time"

	"vorrang/core/step"
)

// Key is the secret by which a service knows the entries that it wrote. It never
// reaches a target: what stands there is a proof, the HMAC-SHA-256 (RFC 2104) of
// what the entry says, as the last member of its detail. A nil Key proves nothing.
type Key []byte

// KeySize is how many bytes a key has: as many as the proofs have.
const KeySize = sha256.Size

// Next is Head.Next for an entry that carries its proof.
func (k Key) Next(head Head, entry Entry, at time.Time) Entry {
	next := head.Next(entry, at)
	if k == nil {
		return next
	}
	next.Detail = withProof(next.Detail, k.sum("entry", next.Canonical()))
	next.Hash = next.Sum()
	return next
}

// Row is a row that a standalone file will write: what of it is known beforehand.
type Row struct {
	Deployment string // the file's name
	Index      int    // among the rows of that name, from 0
	Action     Action
	Step       step.Number
	Checksum   step.Checksum
}

// Proof is what a row carries. Nobody who runs on the target has it before the file
// writes it, and at any other place it proves nothing. Empty by a nil Key.
func (k Key) Proof(r Row) string {
	if k == nil {
		return ""
	}
	return k.sum("row", fmt.Sprintf("%s\n%d\n%s\n%s\n%s", r.Deployment, r.Index, r.Action, r.Step, r.Checksum))
}

func (k Key) sum(kind, text string) string {
	mac := hmac.New(sha256.New, k)
	fmt.Fprintf(mac, "%s\n%s", kind, text)
	return hex.EncodeToString(mac.Sum(nil))
}

// Unproved are the entries after seen that do not carry a proof of this key. Where
// nothing was seen, whatever stands before the first proof is somebody else's, and
// not of these.
func (k Key) Unproved(entries []Entry, seen Head) []Entry {
	own := seen.Seq > 0
	rows := map[string]int{}
	var found []Entry
	for _, e := range entries {
		r := Row{e.Deployment, rows[e.Deployment], e.Action, e.Step, e.Checksum}
		rows[e.Deployment]++
		if e.Seq <= seen.Seq {
			continue
		}
		proved := k.proves(e, r)
		own = own || proved
		if own && !proved {
			found = append(found, e)
		}
	}
	return found
}

var proofAtEnd = regexp.MustCompile(`[{,]"proof":"([0-9a-f]{64})"}$`)

func (k Key) proves(e Entry, r Row) bool {
	at := proofAtEnd.FindSubmatchIndex(e.Detail)
	if k == nil || at == nil {
		return false
	}
	proof := string(e.Detail[at[2]:at[3]])
	e.Detail = append(bytes.TrimSuffix(bytes.Clone(e.Detail[:at[0]+1]), []byte(",")), '}')
	return hmac.Equal([]byte(proof), []byte(k.sum("entry", e.Canonical()))) ||
		hmac.Equal([]byte(proof), []byte(k.Proof(r)))
}

// withProof puts a proof at the end of a detail, which is a JSON object.
func withProof(detail json.RawMessage, proof string) json.RawMessage {
	open := bytes.TrimSuffix(bytes.Clone(detail), []byte("}"))
	if len(open) > 1 {
		open = append(open, ',')
	}
	return fmt.Appendf(open, `"proof":"%s"}`, proof)
}
