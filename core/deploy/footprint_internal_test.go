package deploy

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
)

// slowMeasurer takes 8 ms by the clock that it moves on.
type slowMeasurer struct {
	now   time.Time
	asked int
}

func (m *slowMeasurer) MeasureFrom(context.Context) error { return nil }

func (m *slowMeasurer) Footprint(context.Context) (engine.Footprint, error) {
	m.now, m.asked = m.now.Add(8*time.Millisecond), m.asked+1
	return engine.Footprint{Tables: []engine.TableFootprint{{Table: "public.berth", Blocks: engine.Writes}}}, nil
}

// TestMeasuringTakesAFiftiethOfTheTime: of quick steps only some are measured, and all that
// take long.
func TestMeasuringTakesAFiftiethOfTheTime(t *testing.T) {
	m := &slowMeasurer{now: time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)}
	began := m.now
	r := &run{Runner: &Runner{Now: func() time.Time { return m.now }}, measurer: m, started: m.now}
	step := func(took time.Duration) bool {
		at := r.clock()
		m.now = m.now.Add(took)
		r.measure(t.Context(), at)
		return r.footprint != nil
	}
	for range 1000 {
		step(2 * time.Millisecond)
	}
	assert.Less(t, m.asked, 30)
	assert.Greater(t, m.asked, 10)
	assert.LessOrEqual(t, r.spent, m.now.Sub(began)/share+spared+8*time.Millisecond)
	for range 10 {
		assert.True(t, step(60*time.Millisecond), "whatever it costs")
	}
}

// TestWhatRanSinceItWasMeasuredIsOne: no line is named where several statements may have been
// the one.
func TestWhatRanSinceItWasMeasuredIsOne(t *testing.T) {
	noon := time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)
	so := soFar{}
	f := func(wal int64, mode string) engine.Footprint {
		return engine.Footprint{WALBytes: wal, Tables: []engine.TableFootprint{
			{Table: "public.berth", Mode: mode, Blocks: engine.Writes}}}
	}
	so.ran(3, 7, noon, noon.Add(time.Second))
	first := f(100, "ShareLock")
	so.add(&first)
	so.ran(5, 1, noon.Add(time.Second), noon.Add(2*time.Second))
	so.ran(9, 1, noon.Add(2*time.Second), noon.Add(4*time.Second))
	second := f(40, "ExclusiveLock")
	so.add(&second)
	assert.Equal(t, 3, first.Tables[0].Line)
	assert.Zero(t, second.Tables[0].Line)
	assert.EqualValues(t, 140, second.WALBytes)
	assert.Equal(t, []engine.StatementFootprint{{Line: 3, DurationMS: 1000, Rows: 7, WALBytes: 100}}, so.statements)
	assert.Equal(t, noon, so.stopped["public.berth"], "it was locked all the while")
}
