package plan

import (
	"cmp"

	"vorrang/internal/plural"
)

// Stand is how far a fleet's deployment is on one of its targets.
type Stand string

// What becomes of a target. The last six are exceptions: the target does not have what was asked for.
const (
	Waiting   Stand = "waiting"
	Underway  Stand = "running"
	Reached   Stand = "done" // also where there was nothing to do
	Held      Stand = "held" // its gate is
	Away      Stand = "away" // it could not be reached
	Failed    Stand = "failed"
	BackedOut Stand = "backed out"
	Cancelled Stand = "cancelled"
	Unclear   Stand = "interrupted"
)

// Stands are all of them.
var Stands = []Stand{Waiting, Underway, Reached, Held, Away, Failed, BackedOut, Cancelled, Unclear}

// Exception reports whether a target has not what was asked for, and nothing further happens there.
func (s Stand) Exception() bool { return s != Waiting && s != Underway && s != Reached }

// Waves cuts a fleet's targets, in order, into the waves in which a deployment reaches them: canary
// targets first, and then so many in each; 0 is no canary, and all the others in one wave.
func Waves(targets []string, canary, size int) (waves [][]string) {
	take := func(n int) {
		if n = min(n, len(targets)); n > 0 {
			waves, targets = append(waves, targets[:n:n]), targets[n:]
		}
	}
	take(canary)
	if size == 0 {
		size = len(targets)
	}
	for len(targets) > 0 {
		take(size)
	}
	return waves
}

// Fleet is how a deployment stands in a fleet.
type Fleet struct {
	Waves    [][]string       // the targets that it is to change
	Canary   bool             // the first wave is one
	AtOnce   int              // how many targets may be changed at the same time
	Tolerate int              // how many exceptions do not stop it
	Before   int              // exceptions that were there when it began, which are in no wave
	Stands   map[string]Stand // of each target in a wave; a missing one waits
	Paused   bool             // nothing begins
	Ending   bool             // nothing begins any more
}

// Next says which targets are to begin now. over reports that nothing is under way, and nothing
// begins any more.
func (f Fleet) Next() (begin []string, over bool) {
	_, running, exceptions := f.Count()
	if f.Ending || exceptions > f.Tolerate || f.canaryDied() {
		return nil, running == 0
	}
	for _, wave := range f.Waves {
		open := false // something of the wave is not over
		for _, target := range wave {
			stand := f.stand(target)
			open = open || stand == Waiting || stand == Underway
			if stand == Waiting && !f.Paused && running+len(begin) < f.AtOnce {
				begin = append(begin, target)
			}
		}
		if open {
			return begin, false
		}
	}
	return nil, running == 0
}

func (f Fleet) stand(target string) Stand { return cmp.Or(f.Stands[target], Waiting) }

// Count says how many targets wait, how many are under way, and how many exceptions there are.
func (f Fleet) Count() (waiting, running, exceptions int) {
	exceptions = f.Before
	for _, wave := range f.Waves {
		for _, target := range wave {
			switch stand := f.stand(target); {
			case stand == Waiting:
				waiting++
			case stand == Underway:
				running++
			case stand.Exception():
				exceptions++
			}
		}
	}
	return waiting, running, exceptions
}

// canaryDied reports an exception among the canaries. Not one is tolerated.
func (f Fleet) canaryDied() bool {
	if !f.Canary || len(f.Waves) == 0 {
		return false
	}
	for _, target := range f.Waves[0] {
		if f.stand(target).Exception() {
			return true
		}
	}
	return false
}

// Stopped says why a fleet's deployment ended before all targets were tried; empty where it did not.
func (f Fleet) Stopped() string {
	waiting, _, exceptions := f.Count()
	switch {
	case waiting == 0 || f.Ending:
		return ""
	case f.canaryDied():
		return "the canary did not get there, so that no other target began"
	case exceptions > f.Tolerate:
		return plural.Count(exceptions, "target did not get there", "targets did not get there") +
			", which is more than is tolerated"
	}
	return ""
}
