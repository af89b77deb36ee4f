package ledger

import (
	"strconv"
	"time"
)

// run is what the entries of one deployment tell of it.
type run struct {
	began time.Time
	again bool // another deployment stands between its entries
}

// noteRun notes an entry of a deployment; last is the deployment of the entry of one before it.
func (s *State) noteRun(e Entry, last string) {
	known, before := s.runs[e.Deployment]
	switch {
	case !before:
		if s.runs == nil {
			s.runs = map[string]run{}
		}
		s.runs[e.Deployment] = run{began: e.At}
	case last != e.Deployment && !known.again:
		known.again = true
		s.runs[e.Deployment] = known
	}
}

// ran reports whether an entry is one that a deployment wrote as it ran.
func (e Entry) ran() bool {
	switch e.Action {
	case Applied, RolledBack, Begun, Failed:
		return e.Deployment != ""
	case Baselined, Attested, Amended, Settled, Adopted:
	}
	return false
}

// Reused reports whether two deployments wrote under one number: another one stands between
// their entries, or the first of them is older than when the deployment began, by what is known
// elsewhere. A zero time is not known.
func (s State) Reused(deployment string, began time.Time) bool {
	known, is := s.runs[deployment]
	return is && (known.again || !began.IsZero() && known.began.Before(began))
}

// Numbers are the numbers of deployments that ran here, the newest first, and at most so many; those of
// before the ledger was adopted are left out. highest is the highest of all. Deployments of files
// that ran without Vorrang have no number.
func Numbers(entries []Entry, most int) (newest []int64, highest int64) {
	adopted, last := false, ""
	for i := len(entries) - 1; i >= 0; i-- {
		e := entries[i]
		adopted = adopted || e.Action == Adopted
		if e.Deployment == last || !e.ran() {
			continue
		}
		last = e.Deployment
		number, err := strconv.ParseInt(last, 10, 64)
		if err != nil || number <= 0 {
			continue
		}
		if highest = max(highest, number); !adopted && len(newest) < most {
			newest = append(newest, number)
		}
	}
	return newest, highest
}
