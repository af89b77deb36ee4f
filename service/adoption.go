package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

// adoption says what is found in a target beside what was known of it. It changes
// nothing.
func (s *repairs) adoption(c call, in *environmentIn) (*api.Adoption, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	session, err := s.targets.connect(c, p, "vorrangd adopt")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	found, err := s.find(c, p, session)
	return &found.Adoption, err
}

// finding is what an adoption takes over.
type finding struct {
	api.Adoption
	entries []ledger.Entry
	head    ledger.Head
	now     schema.Schema
}

// find looks at all that an adoption takes over.
func (s *repairs) find(ctx context.Context, p targetContext, session engine.Session) (finding, error) {
	f := finding{
		Adoption: api.Adoption{
			Lane:        p.lane.Name,
			Environment: p.environment.Name,
			Lines:       []string{},
			Differences: []schema.Difference{},
		},
	}
	facts, entries, err := s.targets.look(ctx, p, session)
	if err != nil {
		return f, err
	}
	f.entries, f.head = entries, facts.View.State.Head
	if f.now, err = session.SnapshotWithNeeds(ctx, p.environment.Schemas); err != nil {
		return f, err
	}
	seen, err := s.Records.SeenHead(ctx, p.lane.Name, p.environment.Name)
	if err != nil {
		return f, err
	}
	add := func(format string, args ...any) { f.Lines = append(f.Lines, fmt.Sprintf(format, args...)) }
	add("the ledger holds %s%s", plural.Count(len(entries), "entry", "entries"), newestEntry(entries))
	if facts.Foreign() {
		add("it says that the database belongs to %s", facts.View.State.Belongs)
	}
	if facts.Strange != "" {
		add("%s", facts.Strange)
	}
	if facts.Chain != nil {
		add("%s", facts.Chain)
	}
	if err := s.goneAndNew(ctx, p, entries, seen, add); err != nil {
		return f, err
	}
	known, err := s.Records.KnownSchema(ctx, p.lane.Name, p.environment.Name)
	switch {
	case errors.Is(err, records.ErrNotFound):
		add("the schema has %s; what it was before is not known", plural.Of(len(f.now.Objects), "object"))
	case err != nil:
		return f, err
	default:
		f.Differences = append(f.Differences, schema.Compare(known.Schema, f.now)...)
		add(
			"%s from what %s left at %s",
			plural.Count(len(f.Differences), "object of the schema differs", "objects of the schema differ"),
			knownFrom(known), utc(known.At),
		)
	}
	f.Needed = facts.Chain != nil || facts.Strange != "" || facts.Foreign()
	digest := step.Sum([]byte(ledger.Found(entries) + f.now.Fingerprint() + fmt.Sprint(seen)))
	f.Finding = string(digest)
	return f, nil
}

func newestEntry(entries []ledger.Entry) string {
	if len(entries) == 0 {
		return ""
	}
	e := entries[len(entries)-1]
	return fmt.Sprintf("; the newest, %d, is of %s", e.Seq, utc(e.At))
}

// goneAndNew says how a ledger stands to the entry that was last seen there.
func (s *repairs) goneAndNew(
	ctx context.Context, p targetContext, entries []ledger.Entry, seen ledger.Head, add func(string, ...any),
) error {
	var last ledger.Head
	if n := len(entries); n > 0 {
		last = entries[n-1].Head()
	}
	switch {
	case seen.Seq == 0:
		add("no entry of it was seen here before")
		return nil
	case ledger.VerifyHead(entries, seen) == nil:
		add(
			"entry %d, the last that was seen before, is there%s",
			seen.Seq,
			word(
				last.Seq > seen.Seq,
				fmt.Sprintf(", and %s since", plural.Count(int(last.Seq-seen.Seq), "entry", "entries")),
				"",
			),
		)
		return nil
	case last.Seq < seen.Seq:
		add("entries %d to %d, which were there, are gone", last.Seq+1, seen.Seq)
	default:
		add("entry %d is another one than was seen before", seen.Seq)
	}
	deployments, err := s.Records.Deployments(ctx, records.DeploymentQuery{
		Lane: p.lane.Name, Environment: p.environment.Name, Limit: 100,
	})
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, e := range entries {
		there[e.Deployment] = true
	}
	var gone []string
	for _, d := range deployments {
		if d.EndedAt != nil && d.Planned > 0 && !there[fmt.Sprint(d.ID)] {
			gone = append(gone, fmt.Sprint(d.ID))
		}
	}
	if len(gone) > 0 {
		add("the ledger knows nothing of deployments %s", strings.Join(gone[:min(len(gone), 10)], ", "))
	}
	return nil
}

type adoptIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Finding     string `json:"finding" required:"true" description:"Of what was shown, so that nothing else is adopted."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// adopt takes over what is found in a target: its ledger as it is, its schema as
// it is, as this environment's from now on. Nothing is run, and no entry is
// changed or taken out.
func (s *repairs) adopt(c call, in *adoptIn) (*api.Recorded, error) {
	reason := strings.Join(strings.Fields(in.Reason), " ")
	if reason == "" {
		return nil, badRequest(nil, "reason: say why; it is kept in the ledger")
	}
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	session, err := s.targets.locked(c, p, "vorrangd adopt")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	f, err := s.find(c, p, session)
	if err != nil {
		return nil, err
	}
	if f.Finding != in.Finding {
		return nil, refused(p.do(remedy.Adopt, "look again"),
			"what is found on %s is not what was shown: it has changed in between", in.Environment)
	}
	if err := s.targets.unshared(c, p, session); err != nil {
		return nil, err
	}
	e, err := s.takeOverTarget(c, p, session, f, reason)
	if err != nil {
		return nil, err
	}
	return &api.Recorded{Entries: []ledger.Entry{e},
		Message: fmt.Sprintf("%s is adopted as it is; the gate says so until the next deployment", in.Environment)}, nil
}

// takeOverTarget writes the entry of an adoption, and knows the target from then
// on by what is there.
func (s *repairs) takeOverTarget(
	c call, p targetContext, session engine.Session, f finding, reason string,
) (ledger.Entry, error) {
	if err := session.CreateLedger(c); err != nil {
		return ledger.Entry{}, err
	}
	detail := ledger.Detail{
		Reason:  reason,
		Seen:    f.Lines,
		Found:   ledger.Found(f.entries),
		Belongs: &ledger.Owner{Lane: p.lane.Name, Environment: p.environment.Name},
	}
	e := s.Records.LedgerKey.Next(
		f.head,
		ledger.Entry{Action: ledger.Adopted, Actor: c.actor, Detail: detail.JSON()},
		s.Now(),
	)
	if err := session.Append(c, e); err != nil {
		return e, err
	}
	s.Log.Info("target adopted", "lane", p.lane.Name, "environment", p.environment.Name, "actor", c.actor,
		"reason", reason)
	if err := s.Records.ReplaceHead(c, p.lane.Name, p.environment.Name, e.Head()); err != nil {
		return e, err
	}
	err := s.Records.SaveSnapshot(
		c,
		records.Snapshot{Lane: p.lane.Name, Environment: p.environment.Name, Why: wasAdopted, Seq: e.Seq,
			Actor: c.actor, Reason: reason, Schema: f.now},
	)
	if err != nil {
		return e, err
	}
	return e, s.drifts.saveLook(c, p, s.drifts.Now(), gate.Drifted{}, f.now.Fingerprint())
}
