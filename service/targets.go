package service

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/core/verify"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

// connect opens a session on an environment's target.
func (s *targets) connect(ctx context.Context, p targetContext, application string) (engine.Session, error) {
	e := p.environment
	kind, err := s.Engines.Named(p.lane.Engine)
	if err != nil {
		return nil, err
	}
	url, err := s.resolve(e.Target)
	if err != nil {
		return nil, err
	}
	session, err := kind.Open(ctx, url, application)
	if err != nil {
		return nil, err
	}
	if records, err := session.HasTables(ctx, "records.lane", "records.submission", "records.audit"); err != nil ||
		records {
		session.Close()
		return nil, cmp.Or(
			err,
			error(
				&engine.ConnectError{
					Kind:    engine.BadURL,
					Message: e.Target + " leads to the records of a Vorrang, which are no target",
					Fix:     "put the URL of the application's database there",
				},
			),
		)
	}
	session.Schemas(e.Schemas)
	if e.LedgerRole == "" {
		return session, nil
	}
	key, err := s.resolve(e.LedgerKey)
	if err == nil && len(key) < shortestKey {
		err = &engine.ConnectError{
			Kind:    engine.BadURL,
			Message: fmt.Sprintf("the ledger's key in %s has fewer than %d characters", e.LedgerKey, shortestKey),
			Fix: "make a long random one, such as by openssl rand -hex 32, and let the ledger's owner set it up, by what " +
				"Vorrang prints for that",
		}
	}
	if err != nil {
		session.Close()
		return nil, err
	}
	session.(engine.Owned).LedgerOwner(e.LedgerRole, key) // a lane of another engine cannot declare it
	return session, nil
}

// shortestKey is how many characters the key of a ledger's owner needs.
const shortestKey = 32

// look reads a target's ledger and brings it together with the catalogue.
func (s *targets) look(
	ctx context.Context, p targetContext, session engine.Session,
) (gate.Facts, []ledger.Entry, error) {
	facts := gate.Facts{Lane: p.lane.Name, Asks: p.environment.Asks(), LedgerRole: p.environment.LedgerRole}
	read, right, err := s.histories.read(ctx, p, session)
	if err != nil {
		return facts, nil, err
	}
	entries, state := read.entries, read.state
	if facts.Altered, err = session.LedgerAltered(ctx); err != nil {
		return facts, nil, err
	}
	if state.Untouched() && state.Baseline == "" {
		if facts.Existing, err = session.Existing(ctx, p.environment.Schemas); err != nil {
			return facts, nil, err
		}
	}
	seen, err := s.Records.SeenHead(ctx, p.lane.Name, p.environment.Name)
	if err != nil {
		return facts, nil, err
	}
	chain := make(chan error, 1)
	go func() {
		chain <- safely.Do(func() error { return cmp.Or(ledger.VerifyAfter(entries, right), ledger.VerifyHead(entries, seen)) })
	}()
	facts.Entries, facts.History = len(entries), entries
	if _, highest := ledger.Numbers(entries, 0); highest > 0 {
		if err := s.Records.NumberAbove(ctx, highest); err != nil {
			return facts, nil, err
		}
	}
	facts.View = p.only(plan.Look(p.environment.Name, p.catalogue, state))
	facts.Chain = <-chain
	if facts.Chain == nil {
		facts.Strange = s.strange(entries, seen)
	}
	if facts.Chain == nil && facts.Strange == "" {
		s.histories.keep(ctx, p, read)
	}
	var unfit []string // steps whose files would have to change
	for _, standing := range facts.View.Steps {
		if standing.Has(plan.Late) || standing.Has(plan.Edited) {
			unfit = append(unfit, string(standing.Step.Number))
		}
		if p.stopped(standing, ledger.Forward, engine.Duplicate) {
			facts.There = append(facts.There, standing.Step.Number)
		}
		if p.stopped(standing, ledger.Back, engine.Missing) {
			facts.Away = append(facts.Away, standing.Step.Number)
		}
	}
	if len(unfit) > 0 {
		if facts.Bound, err = s.Records.Bound(ctx, p.lane.Name, p.environment.Name, unfit); err != nil {
			return facts, nil, err
		}
	}
	if facts.Doubts, err = s.doubts(ctx, p, session, facts.View); err != nil {
		return facts, nil, err
	}
	if facts.Half, err = s.halfDone(ctx, p, session, facts.View); err != nil {
		return facts, nil, err
	}
	if facts.Chain == nil && facts.Strange == "" && facts.View.State.Head.Seq > seen.Seq {
		head := facts.View.State.Head
		keep := func(ctx context.Context) error {
			return s.Records.MoveHead(ctx, p.lane.Name, p.environment.Name, seen, head)
		}
		if onlyReads(ctx) {
			s.noted.note(keep)
		} else {
			err = keep(ctx)
		}
	}
	return facts, entries, err
}

// history looks at a place's target, in a session of its own. Its name is there with an error, too.
func (s *targets) history(ctx context.Context, p targetContext, application string) (verify.Environment, error) {
	seen := verify.Environment{Name: p.environment.Name}
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	session, back, err := s.borrow(ctx, p, application)
	if err != nil {
		return seen, err
	}
	well := false
	defer func() { back(well) }()
	seen.Facts, seen.Entries, err = s.look(ctx, p, session)
	well = err == nil
	return seen, err
}

// strange names the entries after the last seen one that this service did not
// write, and no file of its own either. A step's SQL can write such entries if its
// role owns the ledger, with a chain that holds, but it cannot prove them.
func (s *targets) strange(entries []ledger.Entry, seen ledger.Head) string {
	const most = 20
	var found []string
	for _, e := range s.Records.LedgerKey.Unproved(entries, seen) {
		what := string(e.Action)
		if e.Step != "" {
			what = fmt.Sprintf("step %s, %s", e.Step, e.Action)
		}
		found = append(found, fmt.Sprintf("entry %d (%s)", e.Seq, what))
	}
	if len(found) == 0 {
		return ""
	}
	if more := len(found) - most; more > 0 {
		found = append(found[:most], fmt.Sprintf("%d more", more))
	}
	return fmt.Sprintf("this service did not write %s of the ledger", strings.Join(found, ", "))
}

// versions finds a step as it was when the text with a checksum was submitted.
func (s *targets) versions(ctx context.Context, p targetContext) func(step.Number, step.Checksum) (plan.Step, bool) {
	current := make(map[step.Number]plan.Step, len(p.catalogue))
	for _, c := range p.catalogue {
		current[c.Number] = c
	}
	return func(number step.Number, forward step.Checksum) (plan.Step, bool) {
		if c, known := current[number]; known && c.Forward.Checksum == forward {
			return c, true
		}
		version, err := s.Records.Version(ctx, p.lane.Name, number, forward)
		return version, err == nil
	}
}

// at is where remedies are made for.
func (p targetContext) at() remedy.Place {
	return remedy.Place{Lane: p.lane.Name, Environment: p.environment.Name}
}

// held is the answer to a deployment whose gate is held.
func held(p targetContext, result gate.Result, running *records.Deployment) error {
	holds := result.Holds()
	kind, title := "held", fmt.Sprintf("The gate of %s is held", p.environment.Name)
	if result.InDoubt() {
		kind = "in-doubt"
	}
	problem := api.Problem{Type: "urn:vorrang:" + kind, Title: title, Status: 409,
		Detail: holds[0].Evidence, Remedies: holds[0].Remedies, Checks: result.Checks}
	if running != nil {
		d := deploymentOf(*running, false)
		problem.Running = &d
	}
	return &problemError{problem}
}
