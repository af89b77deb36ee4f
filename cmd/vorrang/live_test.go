package main

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/service/api"
)

// drawn is what a deployment's events look like.
func drawn(p paint, terminal bool, events ...deploy.Event) string {
	var out bytes.Buffer
	l := &live{
		e:        &env{out: &out, paint: p},
		d:        &api.Deployment{ID: 3, Lane: "harbour", Environment: "staging"},
		width:    14,
		terminal: terminal,
	}
	for _, e := range events {
		l.hear(e)
	}
	l.stop()
	return out.String()
}

func TestEveryEventHasItsLine(t *testing.T) {
	step := func(e deploy.Event) deploy.Event { e.Step, e.Slug = "2.1", "add-berth"; return e }
	text := drawn(
		paint{},
		false,
		deploy.Event{Kind: deploy.Started, Of: 2},
		step(deploy.Event{Kind: deploy.StepBegan, Of: 1}),
		step(deploy.Event{Kind: deploy.Notice, Severity: "WARNING", Message: "storm"}),
		step(deploy.Event{Kind: deploy.Waiting, Message: "a lock was not granted"}),
		step(deploy.Event{Kind: deploy.Batch, Rows: 700, Rate: 350, Rest: 300, At: time.Unix(1000, 0)}),
		step(deploy.Event{Kind: deploy.Batch, Rows: 800, Rate: 350, At: time.Unix(1001, 0)}),
		step(deploy.Event{Kind: deploy.StepReady, DurationMS: 3}),
		step(deploy.Event{Kind: deploy.StepDone, DurationMS: 1500}),
		deploy.Event{Kind: deploy.BackingOut, Of: 1},
		step(deploy.Event{Kind: deploy.StepDone, DurationMS: 61_000, Direction: ledger.Back}),
		step(
			deploy.Event{
				Kind:       deploy.StepFailed,
				DurationMS: 7,
				Failure:    &deploy.Failure{Message: "no", File: "2.1-add-berth.sql", Line: 1, Column: 2},
			},
		),
		deploy.Event{Kind: deploy.Ended, Of: 3, Outcome: deploy.Failed},
	)
	assert.Equal(t, `  warning: storm
  a lock was not granted
  700 rows so far, 350 a second, about 300 to go
  2.1  add-berth  ran      3 ms, commits with the rest
  2.1  add-berth  applied  1.5 s
backing out 1 step, newest first
  2.1  add-berth  rolled back  1 min 1 s
  2.1  add-berth  failed  7 ms

2.1-add-berth.sql:1:2: no

deployment 3 failed: 1 of 3 steps
→ vorrang status -lane harbour -env staging says where it stands, and what to do next
`, text)
}

func TestATerminalHasALineThatLives(t *testing.T) {
	var out bytes.Buffer
	l := &live{e: &env{out: &out}, d: &api.Deployment{ID: 3}, width: 14, terminal: true}
	l.hear(deploy.Event{Kind: deploy.StepBegan, Step: "1", Slug: "slow", At: time.Now()})
	l.hear(deploy.Event{Kind: deploy.Statement, Statement: 2, Of: 3, Line: 7})
	l.draw()
	assert.Regexp(t, `^  1    slow +running  \d+ ms  statement 2 of 3, line 7$`, out.String())
	l.hear(deploy.Event{Kind: deploy.StepDone, Step: "1", Slug: "slow"})
	assert.Contains(t, out.String(), "\r\x1b[K  1    slow", "the line that stays is written over the one that lives")
	length := out.Len()
	l.draw()
	assert.Equal(t, length, out.Len(), "nothing lives between two steps")
	l.stop()
}

func TestColourLeavesTheColumnsAligned(t *testing.T) {
	table := table{heads: []string{"STEP", "STATE", "BY"}}
	for _, p := range []paint{{on: false}, {on: true}} {
		table.rows = nil
		table.add(plain("1"), cell{"applied", p.good}, plain("ж pilot"))
		table.add(plain("10"), cell{"in doubt", p.bad}, plain("x"))
		var out bytes.Buffer
		table.print(&out, p)
		bare := strings.NewReplacer("\x1b[2m", "", "\x1b[32m", "", "\x1b[1;31m", "", "\x1b[0m", "").
			Replace(out.String())
		assert.Equal(t, "STEP  STATE     BY\n1     applied   ж pilot\n10    in doubt  x\n", bare)
		assert.Equal(t, p.on, strings.Contains(out.String(), "\x1b["))
	}
	t.Setenv("NO_COLOR", "1")
	assert.False(t, painter(&bytes.Buffer{}).on)
}

func TestTimesAreSaidAsPeopleSayThem(t *testing.T) {
	now := time.Now()
	for want, at := range map[string]time.Time{"just now": now.Add(-5 * time.Second),
		"5 min ago": now.Add(-5 * time.Minute), "47 h ago": now.Add(-47*time.Hour - time.Minute)} {
		assert.Equal(t, want, ago(at))
	}
	assert.Equal(
		t,
		[]string{"0 ms", "999 ms", "1.0 s", "2 min 5 s"},
		[]string{took(0), took(999), took(1000), took(125_000)},
	)
}
