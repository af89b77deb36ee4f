package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/records"
)

// histories are ledgers that were read and found right, so that pages, which ask again and
// again, read only what was added since. Whoever changes something, or asks for what is so
// now, has all of it read and checked.
type histories struct {
	mu      sync.Mutex
	kept    map[string]history // by lane and environment
	entries int                // of all
}

// history is a ledger that was found right.
type history struct {
	entries []ledger.Entry
	state   ledger.State // they add up to; nobody changes it
	whole   time.Time    // when all of it was read
	asked   time.Time    // when a page asked for it last
}

const (
	// wholeEvery is how often all of a ledger is read for pages, too: a row that somebody
	// changed behind its trigger is found then, and by every check of a gate.
	wholeEvery = time.Minute
	// mostKept is how many entries of all ledgers together are kept, of some 350 bytes each.
	mostKept = 100_000
)

// pageKey marks a context whose caller takes what was told a moment ago.
type pageKey struct{}

// read reads a target's ledger, and says how many entries were found right before.
func (h *histories) read(
	ctx context.Context, p targetContext, session engine.Session,
) (read history, right int, err error) {
	if ctx.Value(pageKey{}) != nil {
		if known, is := h.of(p); is {
			newer, _, err := session.ReadLedgerFrom(ctx, known.state.Head.Seq)
			if err != nil {
				return read, 0, err
			}
			right = len(known.entries)
			if len(newer) > 0 && newer[0].Hash == known.state.Head.Hash && newer[0].Sum() == newer[0].Hash {
				if len(newer) > 1 {
					ledger.Share(newer)
					known.entries = append(known.entries[:right:right], newer[1:]...)
					known.state = ledger.Fold(known.entries)
				}
				return known, right, nil
			} // it is another ledger
		}
	}
	read.whole = time.Now()
	if read.entries, _, err = session.ReadLedger(ctx); err != nil {
		return read, 0, err
	}
	if ctx.Value(pageKey{}) != nil { // it is going to be kept
		ledger.Share(read.entries)
	}
	read.state = ledger.Fold(read.entries)
	return read, 0, nil
}

func (h *histories) of(p targetContext) (history, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	known, is := h.kept[placeName(p)]
	return known, is && time.Since(known.whole) < wholeEvery
}

// keep keeps what was found right for the pages that ask for it, while there is room. Where no page
// asked in the last minute, nobody would read it.
func (h *histories) keep(ctx context.Context, p targetContext, read history) {
	h.mu.Lock()
	defer h.mu.Unlock()
	name, now := placeName(p), time.Now()
	if read.asked = h.kept[name].asked; ctx.Value(pageKey{}) != nil {
		read.asked = now
	}
	h.drop(name)
	for other, one := range h.kept {
		if now.Sub(one.whole) >= wholeEvery {
			h.drop(other)
		}
	}
	if len(read.entries) == 0 || now.Sub(read.asked) >= wholeEvery || h.entries+len(read.entries) > mostKept {
		return
	}
	if h.kept == nil {
		h.kept = map[string]history{}
	}
	h.entries += len(read.entries)
	h.kept[name] = read
}

func (h *histories) drop(name string) {
	h.entries -= len(h.kept[name].entries)
	delete(h.kept, name)
}

func placeName(p targetContext) string { return p.lane.Name + "/" + p.environment.Name }

// noted is what requests that only read found out, and what keeps it a little later.
type noted struct {
	mu    sync.Mutex
	later []func(context.Context) error
	looks map[string]records.DriftLook // for drift, by place, until they are kept
	wake  func()                       // has it saved soon; may be nil
}

func (n *noted) note(keep func(context.Context) error) {
	n.mu.Lock()
	n.later = append(n.later, keep)
	wake := n.wake
	n.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// noteLook has a look for drift kept later, and newestLook know it at once.
func (n *noted) noteLook(p targetContext, look records.DriftLook, keep func(context.Context) error) {
	place := placeName(p)
	n.mu.Lock()
	if n.looks == nil {
		n.looks = map[string]records.DriftLook{}
	}
	n.looks[place] = look
	n.mu.Unlock()
	n.note(func(ctx context.Context) error {
		err := keep(ctx)
		n.mu.Lock()
		if n.looks[place] == look {
			delete(n.looks, place)
		}
		n.mu.Unlock()
		return err
	})
}

// newestLook is the newest look for drift: the one that is kept, or one that is to be; ErrNotFound for none.
func (n *noted) newestLook(ctx context.Context, p targetContext, r *records.Records) (records.DriftLook, error) {
	n.mu.Lock()
	look, waits := n.looks[placeName(p)]
	n.mu.Unlock()
	kept, err := r.DriftLook(ctx, p.lane.Name, p.environment.Name)
	if !waits || err != nil && !errors.Is(err, records.ErrNotFound) || err == nil && kept.At.After(look.At) {
		return kept, err
	}
	if look.Objects > 0 {
		if look.Since = kept.Since; look.Since == nil {
			look.Since = &look.At
		}
	}
	return look, nil
}

// save keeps it, in the order in which it was found out.
func (n *noted) save(ctx context.Context) (err error) {
	n.mu.Lock()
	later := n.later
	n.later = nil
	n.mu.Unlock()
	for _, keep := range later {
		err = errors.Join(err, keep(ctx))
	}
	return err
}
