package service

import (
	"context"
	"errors"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"vorrang/core/lane"
	"vorrang/records"
)

// standingPatience bounds what a scrape may ask of the records.
const standingPatience = 5 * time.Second

// standing tells of each environment, from the records and from the newest look at its
// target. A scrape waits for no target: where the newest look is old, it has one begun, and
// the next scrape tells of that.
type standing struct {
	records *records.Records
	targets *targets
	looking *looking
	renew   func()
}

// renewAfter is how old a look may be before a scrape has another one begun.
const renewAfter = 5 * time.Minute

var environmentLabels = []string{"lane", "environment"}

func metricOf(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("vorrang_"+name, help, append(environmentLabels, labels...), nil)
}

var (
	lastDeployment = metricOf("last_deployment_timestamp_seconds", "When the last deployment ended, by its outcome; "+
		"Unix time.", "outcome")
	lastTook       = metricOf("last_deployment_seconds", "How long the last deployment took.")
	driftedObjects = metricOf("drifted_objects", "Objects that differed at the last look for drift.")
	driftLooked    = metricOf("drift_looked_timestamp_seconds", "When the last look for drift was; Unix time.")
	backupTaken    = metricOf("backup_timestamp_seconds", "When the newest backup that was reported was taken; Unix time.")
	pendingSteps   = metricOf("pending_steps", "Steps that waited when the target was last read.")
	troubles       = metricOf("troubles", "Troubles when the target was last read, such as an edited step; the "+
		"board names them.")
	reached  = metricOf("target_reached", "1 if the target was reached when it was last read, 0 if not.")
	lookedAt = metricOf("looked_timestamp_seconds", "When the target was last read; Unix time.")
)

// Describe implements prometheus.Collector.
func (s *standing) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		lastDeployment, lastTook, driftedObjects, driftLooked, backupTaken, pendingSteps, troubles, reached, lookedAt,
	} {
		to <- d
	}
}

// Collect implements prometheus.Collector. What the records do not tell now is left out.
func (s *standing) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), standingPatience)
	defer cancel()
	lanes, err := s.targets.lanes(ctx)
	if err != nil {
		return
	}
	var ofLanes, places []string
	for _, p := range s.targets.placesOf(lanes) {
		ofLanes, places = append(ofLanes, p.lane.Name), append(places, p.environment.Name)
	}
	list, err := s.records.Standings(ctx, ofLanes, places)
	if err != nil {
		return
	}
	old := false
	for _, one := range list {
		gauge := func(d *prometheus.Desc, value float64, labels ...string) {
			to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value,
				append([]string{one.Lane, one.Environment}, labels...)...)
		}
		moment := func(d *prometheus.Desc, at *time.Time, labels ...string) {
			if at != nil {
				gauge(d, float64(at.UnixMilli())/1000, labels...)
			}
		}
		if one.Outcome != nil {
			moment(lastDeployment, one.EndedAt, *one.Outcome)
			gauge(lastTook, *one.Took)
		}
		if one.Drifted != nil {
			gauge(driftedObjects, float64(*one.Drifted))
			moment(driftLooked, one.LookedAt)
		}
		moment(backupTaken, one.Backup)
		seen, known := s.looking.newest(one.Lane, one.Environment)
		old = old || !known || time.Since(seen.at) > renewAfter
		if known {
			moment(lookedAt, &seen.at)
			gauge(reached, map[bool]float64{true: 1}[seen.status.Reached])
			if seen.status.Reached {
				gauge(pendingSteps, float64(seen.status.Pending))
				gauge(troubles, float64(len(seen.status.Trouble)))
			}
		}
	}
	if old {
		s.renew()
	}
}

// lookAgain looks at all targets, unless that is under way, and does not wait for it.
func (s *Service) lookAgain() {
	s.running.Aside("a look at all targets for the metrics", func(ctx context.Context) error {
		if !s.renewing.TryLock() {
			return nil
		}
		defer s.renewing.Unlock()
		return s.views.lookAtAll(ctx)
	})
}

// lookAtAll looks at the target of each environment.
func (s *views) lookAtAll(ctx context.Context) error {
	lanes, err := s.targets.lanes(ctx)
	if err != nil {
		return err
	}
	for _, l := range lanes {
		places := l.Places()
		errs := make([]error, len(places))
		each(places, mostLooks, func(i int, e lane.Environment) {
			_, errs[i] = s.environmentStatus(ctx, s.targets.at(l, e, nil), "none")
		})
		if err := errors.Join(errs...); err != nil {
			return err
		}
	}
	return nil
}
