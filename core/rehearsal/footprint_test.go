package rehearsal

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
	"vorrang/core/review"
)

// A step that writes a table again, and checks another.
var footprint = engine.Footprint{Tables: []engine.TableFootprint{
	{Table: "public.call", Blocks: engine.ReadsAndWrites, Rewritten: true, Bytes: 400 << 20, HeldMS: 12, Writes: 30},
	{Table: "public.pilot", Blocks: engine.Writes, Bytes: 40 << 20, HeldMS: 4},
	{Table: "public.dues", Inserted: 3, Bytes: 1 << 30},
}}

func TestEstimatesSayWhatTheyAreMadeFrom(t *testing.T) {
	var texts, bases []string
	for _, e := range EstimatesOf(footprint, false) {
		texts, bases = append(texts, e.String()), append(bases, e.Basis)
	}
	assert.Equal(t, []string{
		"public.call: reads and writes wait for 2.012s to 22.012s, with up to 660 rows to write",
		"public.pilot: writes wait for 2.004s to 22.004s",
	}, texts)
	assert.Equal(t, "12ms on the copy; 400 MiB to write again, at 20 MiB to 200 MiB a second; up to 40 MiB to read, at "+
		"20 MiB a second", bases[0])

	cloned := EstimatesOf(footprint, true)
	assert.Equal(t, "public.call: reads and writes wait for 4ms to 36ms, with up to 1 row to write", cloned[0].String())
	assert.Equal(t, "12ms on the clone, with all rows", cloned[0].Basis)
}

func TestWhatWasOtherwiseThanRehearsed(t *testing.T) {
	estimates := EstimatesOf(footprint, true)
	assert.Empty(t, Unlike(footprint, footprint, estimates))
	measured := engine.Footprint{Tables: []engine.TableFootprint{
		{Table: "public.call", Blocks: engine.ReadsAndWrites, HeldMS: 37},
		{Table: "public.tide", Blocks: engine.Writes},
		{Table: "public.dues", Rewritten: true},
	}}
	assert.Equal(t, []string{
		"public.tide: writes had to wait, which the rehearsal did not see",
		"public.dues was written again, which the rehearsal did not see",
		"public.call was not written again, as it was in the rehearsal",
		"public.pilot: in the rehearsal writes would have had to wait, and did not",
		"public.call: reads and writes waited for up to 37ms, and 4ms to 36ms was estimated: 12ms on the clone, with all rows",
	}, Unlike(footprint, measured, estimates))
}

func TestWritesASecondAreOfTwoLooks(t *testing.T) {
	at := time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)
	first := review.Figures{At: at, Tables: map[string]review.Size{"public.call": {Writes: 1000}, "public.pilot": {Writes: 9}}}
	writes := func(later review.Figures, err error) (list []int64) {
		r := run{Stage: Stage{Sizes: first, Later: func(context.Context) (review.Figures, error) { return later, err }}}
		copied := engine.Footprint{Tables: append([]engine.TableFootprint{}, footprint.Tables[:2]...)}
		r.Steps = []Step{{Footprint: &copied}, {}}
		r.countWrites(t.Context())
		return []int64{copied.Tables[0].Writes, copied.Tables[1].Writes}
	}
	tables := map[string]review.Size{"public.call": {Writes: 1500}, "public.pilot": {Writes: 3}}
	assert.Equal(t, []int64{250, 0}, writes(review.Figures{At: at.Add(2 * time.Second), Tables: tables}, nil),
		"the counter of pilots was set back")
	assert.Equal(t, []int64{0, 0}, writes(review.Figures{At: at.Add(time.Second / 2), Tables: tables}, nil), "too soon")
	assert.Equal(t, []int64{30, 0}, writes(review.Figures{}, errors.New("the target is away")))
}
