package main

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

// follow shows a deployment to its end: a line for every step, and on a
// terminal a line that lives while a step runs. most is how many objects are
// listed that a step touched; 0 means all.
func follow(ctx context.Context, e *env, c *client.Client, d *api.Deployment, most int) error {
	verb := "promoting"
	if d.Rebuild {
		verb = "rebuilding with"
	}
	if d.Direction == ledger.Back {
		verb = "rolling back"
	}
	fmt.Fprintf(
		e.out,
		"%s %s on %s/%s, deployment %d\n",
		verb,
		plural.Of(d.Planned, "step"),
		d.Lane, d.Environment, d.ID,
	)
	l := &live{e: e, d: d, width: slugWidth(d), terminal: isTerminal(e.out), most: most}
	defer l.stop()
	err := c.Follow(ctx, d.ID, 0, func(event deploy.Event) error {
		l.hear(event)
		return nil
	})
	if err == nil && d.Direction == ledger.Forward {
		printUnlike(ctx, e, c, d.ID)
	}
	return err
}

// printUnlike says where a deployment did otherwise than its rehearsal. That it cannot be
// read is no failure of the deployment.
func printUnlike(ctx context.Context, e *env, c *client.Client, id int64) {
	list, err := c.Footprints(ctx, id)
	if err != nil {
		return
	}
	for _, f := range list.Footprints {
		for _, what := range f.Unlike {
			fmt.Fprintln(e.out, e.paint.warn(fmt.Sprintf("otherwise than rehearsed, step %s: %s", f.Number, what)))
		}
	}
}

func slugWidth(d *api.Deployment) int {
	width := 0
	for _, s := range d.Steps {
		width = max(width, utf8.RuneCountInString(stepName(s.Number, s.Slug)))
	}
	return min(width, 48)
}

func stepName[N ~string](number N, slug string) string { return fmt.Sprintf("%-4s %s", number, slug) }

// live draws a deployment's events.
type live struct {
	// immutable state
	e        *env
	d        *api.Deployment
	width    int
	terminal bool
	most     int // lines about what a step did to the schema; 0 means all

	// the line that lives
	mu      sync.Mutex
	step    deploy.Event
	begun   time.Time
	detail  string
	done    int
	told    time.Time          // of a backfill
	ticking context.CancelFunc // ends the redrawing; nil where nothing is redrawn
	redrawn sync.WaitGroup
	drawn   bool
}

func (l *live) hear(event deploy.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.e.paint
	switch event.Kind {
	case deploy.Started:
	case deploy.StepBegan:
		l.step, l.begun, l.detail = event, event.At, ""
		l.tick()
	case deploy.Statement:
		l.detail = fmt.Sprintf("statement %d of %d, line %d", event.Statement, event.Of, event.Line)
	case deploy.Notice:
		l.line(fmt.Sprintf("  %s", p.dim(strings.ToLower(event.Severity)+": "+event.Message)))
	case deploy.Waiting, deploy.Emptied:
		l.line("  " + p.warn(event.Message))
	case deploy.BackingOut:
		l.line(p.warn(fmt.Sprintf("backing out %s, newest first", plural.Of(event.Of, "step"))))
	case deploy.Round:
		l.line(p.strong(event.Message))
	case deploy.Batch:
		l.batch(event)
	case deploy.StepReady:
		l.step = deploy.Event{}
		l.line(
			fmt.Sprintf(
				"  %-*s  ran      %s", l.width, stepName(event.Step, event.Slug),
				p.dim(took(event.DurationMS)+", commits with the rest"),
			),
		)
	case deploy.StepDone:
		l.step = deploy.Event{}
		word := "applied"
		if event.Direction == ledger.Back {
			word = "rolled back"
		}
		if event.Direction == l.d.Direction {
			l.done++
		}
		l.line(
			fmt.Sprintf(
				"  %-*s  %s  %s", l.width, stepName(event.Step, event.Slug), p.good(word),
				p.dim(took(event.DurationMS)),
			),
		)
	case deploy.StepFailed:
		l.step = deploy.Event{}
		l.line(
			fmt.Sprintf(
				"  %-*s  %s  %s", l.width, stepName(event.Step, event.Slug),
				p.bad("failed"),
				p.dim(took(event.DurationMS)),
			),
		)
		l.line("\n" + strings.TrimRight(event.Failure.Text(), "\n") + "\n")
	case deploy.Blocking:
		l.line("  " + p.warn(event.Message))
	case deploy.Measured:
		if event.Message != "" {
			l.line("         " + p.dim(event.Message))
		}
	case deploy.Effect:
		l.erase()
		if event.Step == "" {
			l.line("  " + p.dim("all together:"))
		}
		effectOf(l.e, event.Effect, event.More, l.most)
	case deploy.Ended:
		l.line(l.ending(event))
	}
}

// batchEvery is how often a backfill gets a line where no line can live.
const batchEvery = 10 * time.Second

// batch shows how far a backfill has come.
func (l *live) batch(event deploy.Event) {
	l.detail = fmt.Sprintf("%d rows so far, %d a second", event.Rows, event.Rate)
	if event.Rest > 0 {
		l.detail += fmt.Sprintf(", about %d to go", event.Rest)
	}
	if !l.terminal && event.At.Sub(l.told) >= batchEvery {
		l.told = event.At
		l.line("  " + l.e.paint.dim(l.detail))
	}
}

func (l *live) ending(event deploy.Event) string {
	text := fmt.Sprintf(
		"deployment %d %s: %d of %s",
		l.d.ID, outcomePaint(l.e.paint, event.Outcome)(string(event.Outcome)), l.done,
		plural.Of(event.Of, "step"),
	)
	if event.Message != "" {
		text += "\n" + event.Message
	}
	if event.Outcome == deploy.Failed || event.Outcome == deploy.BackedOut {
		text += fmt.Sprintf(
			"\n→ vorrang status -lane %s -env %s says where it stands, and what to do next",
			l.d.Lane, l.d.Environment,
		)
	}
	return text
}

// line prints a line that stays, over the one that lives.
func (l *live) line(text string) {
	l.erase()
	fmt.Fprintln(l.e.out, text)
}

func (l *live) erase() {
	if l.drawn {
		fmt.Fprint(l.e.out, "\r\x1b[K")
		l.drawn = false
	}
}

// tick starts to redraw the living line.
func (l *live) tick() {
	if !l.terminal || l.ticking != nil {
		return
	}
	ctx, end := context.WithCancel(context.Background())
	l.ticking = end
	l.redrawn.Go(func() {
		ticks := time.NewTicker(200 * time.Millisecond)
		defer ticks.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticks.C:
				l.draw()
			}
		}
	})
}

func (l *live) draw() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.step.Step == "" || l.ticking == nil {
		return
	}
	text := fmt.Sprintf(
		"  %-*s  running  %s  %s", l.width, stepName(l.step.Step, l.step.Slug),
		took(time.Since(l.begun).Milliseconds()), l.detail,
	)
	columns, _, err := term.GetSize(1)
	if err == nil && utf8.RuneCountInString(text) >= columns {
		text = string([]rune(text)[:max(columns-1, 0)])
	}
	l.erase()
	fmt.Fprint(l.e.out, text)
	l.drawn = true
}

func (l *live) stop() {
	l.mu.Lock()
	end := l.ticking
	l.erase()
	l.ticking = nil
	l.mu.Unlock()
	if end != nil {
		end()
	}
	l.redrawn.Wait()
}
