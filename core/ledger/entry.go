package ledger

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vorrang/core/step"
)

// Action is what an entry says was done.
type Action string

const (
	Applied    Action = "applied"
	RolledBack Action = "rolled-back"
	Baselined  Action = "baselined"
	Attested   Action = "attested"
	Amended    Action = "amended"
	Begun      Action = "begun"
	Failed     Action = "failed"
	Settled    Action = "settled"
	Adopted    Action = "adopted" // somebody took over what was found, history and all
)

// Entry is one row of the ledger. Once written it never changes.
type Entry struct {
	Seq        int64           `json:"seq"`
	At         time.Time       `json:"at"` // UTC, in whole microseconds
	Action     Action          `json:"action"`
	Step       step.Number     `json:"step"`
	Slug       string          `json:"slug"`
	Checksum   step.Checksum   `json:"checksum"`
	Deployment string          `json:"deployment"`
	Actor      string          `json:"actor"`
	DurationMS int64           `json:"duration_ms"`
	Detail     json.RawMessage `json:"detail"` // compact JSON, exactly as it is stored
	PrevHash   string          `json:"prev_hash"`
	Hash       string          `json:"hash"`
}

// Share lets entries that are kept for long have in common what they say alike: the hash of the
// one before, actors, deployments, steps with their texts. It halves what a long ledger takes.
func Share(entries []Entry) {
	seen := map[string]string{}
	for i := range entries {
		e := &entries[i]
		share(seen, &e.Action)
		share(seen, &e.Step)
		share(seen, &e.Slug)
		share(seen, &e.Checksum)
		share(seen, &e.Deployment)
		share(seen, &e.Actor)
		if i > 0 && e.PrevHash == entries[i-1].Hash {
			e.PrevHash = entries[i-1].Hash
		}
	}
}

func share[S ~string](seen map[string]string, text *S) {
	if known, is := seen[string(*text)]; is {
		*text = S(known)
		return
	}
	seen[string(*text)] = string(*text)
}

// Genesis is the PrevHash of a ledger's first entry.
var Genesis = strings.Repeat("0", 64)

// AtLayout is the canonical form of an entry's time.
const AtLayout = "2006-01-02T15:04:05.000000Z"

// Head is the newest entry of a ledger, as the service remembers it.
type Head struct {
	Seq  int64  `json:"seq"`
	Hash string `json:"hash"`
}

// NewHead is the head of a ledger that has no entries.
func NewHead() Head { return Head{Hash: Genesis} }

// Next returns the entry that follows head: its number, time, detail and
// hashes are filled in. A nil detail becomes {}.
func (h Head) Next(entry Entry, at time.Time) Entry {
	entry.Seq = h.Seq + 1
	entry.At = at.UTC().Truncate(time.Microsecond)
	entry.Actor = oneLine(entry.Actor)
	if len(entry.Detail) == 0 {
		entry.Detail = json.RawMessage("{}")
	}
	entry.PrevHash = h.Hash
	entry.Hash = entry.Sum()
	return entry
}

// oneLine keeps line ends out of a field, since they separate fields in the
// canonical form.
func oneLine(text string) string {
	return strings.Join(strings.Fields(text), " ")
}

// Canonical is the text that is hashed: the fields in the order of the table's
// columns, a line each.
func (e Entry) Canonical() string {
	return strings.Join([]string{
		strconv.FormatInt(e.Seq, 10), e.At.UTC().Format(AtLayout), string(e.Action), string(e.Step), e.Slug,
		string(e.Checksum), e.Deployment, e.Actor, strconv.FormatInt(e.DurationMS, 10), string(e.Detail), e.PrevHash,
	}, "\n")
}

// HashSQL is Sum as PostgreSQL computes it of a row of the ledger.
const HashSQL = `pg_catalog.encode(pg_catalog.sha256(pg_catalog.convert_to(pg_catalog.concat_ws(E'\n', seq,
	pg_catalog.to_char(at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), action, step, slug, checksum, deployment, actor, duration_ms, detail, prev_hash), 'UTF8')), 'hex')`

// Sum is the lower-case hexadecimal SHA-256 of the canonical form.
func (e Entry) Sum() string {
	digest := sha256.Sum256([]byte(e.Canonical()))
	return hex.EncodeToString(digest[:])
}

// Head is the entry as a head.
func (e Entry) Head() Head { return Head{Seq: e.Seq, Hash: e.Hash} }

// ChainError says where a ledger's chain is broken.
type ChainError struct {
	Seq    int64
	Reason string
}

func (e *ChainError) Error() string {
	return fmt.Sprintf("the ledger's chain is broken at entry %d: %s", e.Seq, e.Reason)
}

// Verify checks the chain of a whole ledger, oldest entry first. What stands
// before an adoption must be what was adopted, whether or not it fits together.
// Its error is a *ChainError that names the first entry that does not fit.
func Verify(entries []Entry) error {
	head := NewHead()
	if at := adoption(entries); at >= 0 {
		var detail Detail
		_ = json.Unmarshal(entries[at].Detail, &detail) // adoption has read it
		if Found(entries[:at]) != detail.Found {
			return &ChainError{entries[at].Seq, "what stands before it is not what was adopted there"}
		}
		if at > 0 {
			head = entries[at-1].Head()
		}
		entries = entries[at:]
	}
	return follow(entries, head)
}

// VerifyAfter is Verify of entries of which so many were found right before.
func VerifyAfter(entries []Entry, before int) error {
	if before == 0 || adoption(entries[before:]) >= 0 {
		return Verify(entries)
	}
	return follow(entries[before:], entries[before-1].Head())
}

// follow checks that entries stand one after the other, the first after head.
func follow(entries []Entry, head Head) error {
	for _, e := range entries {
		switch {
		case e.Seq != head.Seq+1:
			return &ChainError{e.Seq, fmt.Sprintf("entry %d should follow entry %d", head.Seq+1, head.Seq)}
		case e.PrevHash != head.Hash:
			return &ChainError{e.Seq, "it does not name the hash of the entry before it"}
		case e.Sum() != e.Hash:
			return &ChainError{e.Seq, "its content is not what its hash was made of"}
		}
		head = e.Head()
	}
	return nil
}

// adoption is the index of the newest adoption; -1 if there is none.
func adoption(entries []Entry) int {
	for i, e := range slices.Backward(entries) {
		if e.Action == Adopted && e.Sum() == e.Hash {
			return i
		}
	}
	return -1
}

// Found is the lower-case hexadecimal SHA-256 of entries as they were found: the
// canonical form and the hash of each, a blank line between.
func Found(entries []Entry) string {
	digest := sha256.New()
	for _, e := range entries {
		fmt.Fprintf(digest, "%s\n%s\n\n", e.Canonical(), e.Hash)
	}
	return hex.EncodeToString(digest.Sum(nil))
}

// Adoption is the newest entry by which somebody adopted a target, and false if
// none did, or if something was deployed since.
func Adoption(entries []Entry) (Entry, bool) {
	for _, e := range slices.Backward(entries) {
		switch {
		case e.Action == Adopted:
			return e, true
		case e.Deployment != "":
			return Entry{}, false
		}
	}
	return Entry{}, false
}

// VerifyHead checks that a ledger still contains a head that was seen before.
// Its error is a *ChainError.
func VerifyHead(entries []Entry, seen Head) error {
	if seen.Seq == 0 {
		return nil
	}
	at, found := slices.BinarySearchFunc(
		entries, seen.Seq,
		func(e Entry, seq int64) int { return cmp.Compare(e.Seq, seq) },
	)
	switch {
	case !found && at == len(entries):
		last := int64(0)
		if at > 0 {
			last = entries[at-1].Seq
		}
		return &ChainError{
			last,
			fmt.Sprintf("it ends there, but entry %d was seen before; was an older backup restored?", seen.Seq),
		}
	case !found || entries[at].Hash != seen.Hash:
		return &ChainError{seen.Seq, "it is not the entry that was seen before; was a backup restored and worked on?"}
	}
	return nil
}
