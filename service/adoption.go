package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// adoption says what is found in a target beside what was known of it. It changes
// nothing.
func (s *Service) adoption(c call, in *environmentIn) (*api.Adoption, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	session, err := s.connect(c, p, "vorrangd adopt")
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
func (s *Service) find(ctx context.Context, p targetContext, session engine.Session) (finding, error) {
	f := finding{Adoption: api.Adoption{Lane: p.lane.Name, Environment: p.environment.Name, Lines: []string{}, Differences: []schema.Difference{}}}
	facts, entries, err := s.look(ctx, p, session)
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
	add("the ledger holds %s%s", count(len(entries), "entry", "entries"), newestEntry(entries))
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
		add("the schema has %s; what it was before is not known", count(len(f.now.Objects), "object", "objects"))
	case err != nil:
		return f, err
	default:
		f.Differences = append(f.Differences, schema.Compare(known.Schema, f.now)...)
		add("%s from what %s left at %s", count(len(f.Differences), "object of the schema differs", "objects of the schema differ"), knownFrom(known), utc(known.At))
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
func (s *Service) goneAndNew(ctx context.Context, p targetContext, entries []ledger.Entry, seen ledger.Head, add func(string, ...any)) error {
	var last ledger.Head
	if n := len(entries); n > 0 {
		last = entries[n-1].Head()
	}
	switch {
	case seen.Seq == 0:
		add("no entry of it was seen here before")
		return nil
	case ledger.VerifyHead(entries, seen) == nil:
		add("entry %d, the last that was seen before, is there%s", seen.Seq, word(last.Seq > seen.Seq, fmt.Sprintf(", and %s since", count(int(last.Seq-seen.Seq), "entry", "entries")), ""))
		return nil
	case last.Seq < seen.Seq:
		add("entries %d to %d, which were there, are gone", last.Seq+1, seen.Seq)
	default:
		add("entry %d is another one than was seen before", seen.Seq)
	}
	deployments, err := s.Records.Deployments(ctx, p.lane.Name, p.environment.Name, 100)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, e := range entries {
		there[e.Deployment] = true
	}
	var gone []string
	for _, d := range deployments {
		if d.EndedAt != nil && len(d.Plan.Actions) > 0 && !there[fmt.Sprint(d.ID)] {
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
	Finding     string `json:"finding" required:"true" description:"Of what was looked at, so that nothing else is adopted."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// adopt takes over what is found in a target: its ledger as it is, its schema as
// it is, as this environment's from now on. Nothing is run, and no entry is
// changed or taken out.
func (s *Service) adopt(c call, in *adoptIn) (*api.Recorded, error) {
	reason := strings.Join(strings.Fields(in.Reason), " ")
	if reason == "" {
		return nil, badRequest("", "reason: say why; it stands in the ledger")
	}
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	session, err := s.locked(c, p, "vorrangd adopt")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	f, err := s.find(c, p, session)
	if err != nil {
		return nil, err
	}
	if f.Finding != in.Finding {
		return nil, refused(fmt.Sprintf("look again: vorrang adopt -lane %s -env %s", in.Lane, in.Environment),
			"what is found on %s is not what was looked at: it has changed in between", in.Environment)
	}
	if err := s.unshared(c, p, session); err != nil {
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
func (s *Service) takeOverTarget(c call, p targetContext, session engine.Session, f finding, reason string) (ledger.Entry, error) {
	if err := session.CreateLedger(c); err != nil {
		return ledger.Entry{}, err
	}
	detail := ledger.Detail{Reason: reason, Seen: f.Lines, Found: ledger.Found(f.entries), Belongs: &ledger.Owner{Lane: p.lane.Name, Environment: p.environment.Name}}
	e := s.Records.LedgerKey.Next(f.head, ledger.Entry{Action: ledger.Adopted, Actor: c.actor, Detail: detail.JSON()}, time.Now())
	if err := session.Append(c, e); err != nil {
		return e, err
	}
	s.Log.Info("target adopted", "lane", p.lane.Name, "environment", p.environment.Name, "actor", c.actor, "reason", reason)
	if err := s.Records.ReplaceHead(c, p.lane.Name, p.environment.Name, e.Head()); err != nil {
		return e, err
	}
	err := s.Records.KeepSnapshot(c, records.Snapshot{Lane: p.lane.Name, Environment: p.environment.Name, Why: wasAdopted, Seq: e.Seq,
		Actor: c.actor, Reason: reason, Schema: f.now})
	if err != nil {
		return e, err
	}
	return e, s.keepLook(c, p, gate.Drifted{}, f.now.Fingerprint())
}

// claim is what a ledger's next entry is to say of whose target it is; nil where
// an entry says it already.
func claim(p targetContext, state ledger.State) *ledger.Owner {
	if state.Belongs != (ledger.Owner{}) {
		return nil
	}
	return &ledger.Owner{Lane: p.lane.Name, Environment: p.environment.Name}
}

// claimed is an entry that says whose target this is.
func claimed(e ledger.Entry, owner *ledger.Owner) ledger.Entry {
	if owner == nil {
		return e
	}
	var detail ledger.Detail
	_ = json.Unmarshal(e.Detail, &detail) // our own
	detail.Belongs = owner
	e.Detail = detail.JSON()
	return e
}

// claimable refuses a target that no ledger entry gives to an environment yet, and
// that is another one's.
func (s *Service) claimable(ctx context.Context, p targetContext, session engine.Session, state ledger.State) error {
	if claim(p, state) == nil {
		return nil
	}
	return s.unshared(ctx, p, session)
}

// unshared refuses a target that is also another environment's, of any lane, as
// far as those can be reached. The server itself tells, not the URLs.
func (s *Service) unshared(ctx context.Context, p targetContext, session engine.Session) error {
	others, err := s.others(ctx, p)
	if err != nil {
		return err
	}
	twin, _, err := s.twin(ctx, session, others)
	if err != nil || twin == nil {
		return err
	}
	return shared(p, *twin)
}

func shared(p targetContext, twin targetContext) error {
	return refused("give each environment a database of its own, in what the target references stand for",
		"the target of %s/%s is the database of %s/%s: what is deployed to one would change the other, without its gate",
		p.lane.Name, p.environment.Name, twin.lane.Name, twin.environment.Name)
}

// others are all environments of all lanes but one.
func (s *Service) others(ctx context.Context, p targetContext) ([]targetContext, error) {
	lanes, err := s.Records.Lanes(ctx)
	list := slices.DeleteFunc(s.placesOf(lanes), func(other targetContext) bool {
		return other.lane.Name == p.lane.Name && other.environment.Name == p.environment.Name
	})
	return list, err
}

// placesOf are the environments of lanes, in their order.
func (s *Service) placesOf(lanes []lane.Lane) []targetContext {
	var list []targetContext
	for _, l := range lanes {
		for _, e := range l.Environments {
			list = append(list, s.at(l, e, nil))
		}
	}
	return list
}

// twinPatience bounds how long the other environments are asked together.
const twinPatience = 10 * time.Second

// twin finds an environment that has the same database as a session. Those that
// could not be reached come back by themselves.
func (s *Service) twin(ctx context.Context, session engine.Session, others []targetContext) (twin *targetContext, unreached []targetContext, err error) {
	ctx, cancel := context.WithTimeout(ctx, twinPatience)
	defer cancel()
	own, err := session.Identity(ctx)
	if err != nil {
		return nil, nil, err
	}
	identities := s.identities(ctx, others)
	for i, other := range others {
		switch identities[i] {
		case "":
			unreached = append(unreached, other)
		case own:
			twin = &other
		}
	}
	return twin, unreached, nil
}

// mostAtOnce is how many targets are asked at a time by one request.
const mostAtOnce = 8

// identities says by what the server says of itself which database each target
// is; empty for one that cannot be reached.
func (s *Service) identities(ctx context.Context, places []targetContext) []string {
	found := make([]string, len(places))
	each(places, mostAtOnce, func(i int, p targetContext) {
		within, cancel := context.WithTimeout(ctx, lookTimeout)
		defer cancel()
		session, err := s.connect(within, p, "vorrangd")
		if err != nil {
			return
		}
		defer session.Close()
		found[i], _ = session.Identity(within) // none is: not reached
	})
	return found
}

// distinct refuses a lane of which an environment would have the same database as
// another one, of this lane or of others.
func (s *Service) distinct(ctx context.Context, l lane.Lane) error {
	lanes, err := s.Records.Lanes(ctx)
	if err != nil {
		return err
	}
	others := slices.DeleteFunc(lanes, func(other lane.Lane) bool { return other.Name == l.Name })
	all := s.placesOf(append([]lane.Lane{l}, others...))
	ctx, cancel := context.WithTimeout(ctx, twinPatience)
	defer cancel()
	first := map[string]targetContext{}
	for i, identity := range s.identities(ctx, all) {
		if identity == "" {
			continue
		}
		if twin, taken := first[identity]; taken && (twin.lane.Name == l.Name || all[i].lane.Name == l.Name) {
			return shared(twin, all[i])
		}
		first[identity] = all[i]
	}
	return nil
}
