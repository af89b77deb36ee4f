package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

// targetContext is one environment of a lane, with the lane's catalogue.
type targetContext struct {
	lane        lane.Lane
	environment lane.Environment
	catalogue   []plan.Step
	engine      engine.Engine // of the lane; nil for one that this service does not have

	// of a promotion that is sealed; nil for loose steps
	release *release.Release
	sealed  map[step.Number]plan.Step
}

// at is the context of one environment.
func (s *targets) at(l lane.Lane, e lane.Environment, catalogue []plan.Step) targetContext {
	return targetContext{lane: l, environment: e, catalogue: catalogue, engine: s.Engines[l.Engine]}
}

// dialect is the SQL of the lane's engine. Call it where a session was opened, or
// the engine is known to be there.
func (p targetContext) dialect() engine.Dialect { return p.engine.Dialect() }

func (s *targets) place(ctx context.Context, laneName, environment string) (targetContext, error) {
	if hidden(ctx, laneName, environment) {
		return targetContext{}, notFound(
			"environment "+environment+" in the lane",
			laneName,
			see(remedy.LookAtStatus, "see those that you may read"),
		)
	}
	return s.anyPlace(ctx, laneName, environment)
}

// anyPlace is place whoever asks, for what a gate has to look at.
func (s *targets) anyPlace(ctx context.Context, laneName, environment string) (targetContext, error) {
	l, err := s.lane(ctx, laneName)
	if err != nil {
		return targetContext{}, err
	}
	e, found := l.Place(environment)
	switch {
	case !found:
		return targetContext{}, noPlace(l, environment)
	case e.Fleet != nil:
		return targetContext{}, manyTargets(e)
	}
	catalogue, err := s.Records.Catalogue(ctx, laneName)
	return s.at(l, e, catalogue), err
}

// noPlace says which environments there are, or which targets a fleet has.
func noPlace(l lane.Lane, name string) error {
	e, found := l.Environment(lane.EnvironmentOf(name))
	if !found {
		return notFound("environment "+e.Name+lane.EnvironmentOf(name)+" in the lane", l.Name,
			by("its environments are %s", strings.Join(l.Names(), ", ")))
	}
	what, where := fmt.Sprintf("target %s in %s of the lane", lane.TargetOf(name), e.Name), "it has one target, and none of its own name"
	if e.Fleet != nil {
		where = "its targets are " + gate.Some(targetNames(e))
		if e.Fleet.Unread != "" {
			where = e.Fleet.Unread
		}
	}
	return notFound(what, l.Name, by("%s", where))
}

func targetNames(e lane.Environment) []string {
	names := make([]string, len(e.Fleet.Targets))
	for i, t := range e.Fleet.Targets {
		names[i] = t.Name
	}
	return names
}

// manyTargets refuses what can be done to one target at a time.
func manyTargets(e lane.Environment) error {
	if e.Fleet.Unread != "" {
		return &engine.ConnectError{Kind: engine.BadURL, Message: e.Fleet.Unread,
			Fix: "put the list there: a line for each target, with its name, a space and its connection URL"}
	}
	problem := api.Problem{
		Type: "urn:vorrang:fleet", Title: "It is a fleet", Status: http.StatusConflict,
		Detail:  fmt.Sprintf("%s is a fleet of %s, and this is about one of them", e.Name, plural.Of(len(e.Fleet.Targets), "target")),
		Targets: targetNames(e),
	}
	if len(problem.Targets) > 0 {
		problem.Remedies = by("name one, as in %s", lane.PlaceName(e.Name, problem.Targets[0]))
	}
	return &problemError{problem}
}

// unreadFleets are the fleets of a lane whose list of targets cannot be read.
func unreadFleets(l lane.Lane) (list []lane.Environment) {
	for _, e := range l.Environments {
		if e.Fleet != nil && e.Fleet.Unread != "" {
			list = append(list, e)
		}
	}
	return list
}

// anyOf is place; of a fleet its first target that is not set aside, for what is much the same on all of
// them.
func (s *targets) anyOf(ctx context.Context, laneName, name string) (targetContext, error) {
	p, err := s.environment(ctx, laneName, name)
	if err != nil || p.environment.Fleet == nil {
		return p, err
	}
	list, _, err := s.inUse(ctx, p)
	if err != nil {
		return p, err
	}
	return list[0], nil
}

// environment is place, also for an environment that is a fleet.
func (s *targets) environment(ctx context.Context, laneName, name string) (targetContext, error) {
	if !hidden(ctx, laneName, name) {
		l, err := s.lane(ctx, laneName)
		if err != nil {
			return targetContext{}, err
		}
		if e, found := l.Environment(name); found && e.Fleet != nil {
			catalogue, err := s.Records.Catalogue(ctx, laneName)
			return s.at(l, e, catalogue), err
		}
	}
	return s.place(ctx, laneName, name)
}

// places are the targets of a fleet, each as an environment of its own.
func (s *targets) places(p targetContext) []targetContext {
	places := p.environment.Places()
	list := make([]targetContext, len(places))
	for i, e := range places {
		list[i] = p
		list[i].environment = e
	}
	return list
}

// listed reads the lists of the fleets whose targets stand in one.
func (s *targets) listed(l lane.Lane) lane.Lane {
	for i, e := range l.Environments {
		if e.Fleet == nil || e.Fleet.From == "" {
			continue
		}
		fleet := *e.Fleet
		text, err := s.resolveUpTo(fleet.From, mostListed)
		if err == nil {
			fleet.Targets, _, err = lane.ReadTargets(fleet.From, text)
		}
		if err != nil {
			fleet.Unread = unreachable(err).Message
			var connect *engine.ConnectError
			if !errors.As(err, &connect) {
				fleet.Unread = err.Error()
			}
		}
		l.Environments[i].Fleet = &fleet
	}
	return l
}

// lanes are all lanes, with the targets of their fleets.
func (s *targets) lanes(ctx context.Context) ([]lane.Lane, error) {
	list, err := s.Records.Lanes(ctx)
	for i := range list {
		list[i] = s.listed(list[i])
	}
	return list, err
}

func (s *targets) lane(ctx context.Context, name string) (lane.Lane, error) {
	l, err := s.Records.Lane(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return l, notFound(
			"lane", name,
			or(see(remedy.LookAtLanes, "see which there are"), see(remedy.Declare, "declare one")),
		)
	}
	return s.listed(l), err
}

// mostReferred is how long what a reference leads to may be, mostListed how long a list of targets, in
// bytes.
const (
	mostReferred = 64 << 10
	mostListed   = 1 << 20
)

// ourOwn are the variables that are the service's, and nobody's target: whoever
// declares a lane must not read the service's secrets by it.
func ourOwn(variable string) bool {
	return strings.HasPrefix(variable, "OTEL_") ||
		strings.HasPrefix(variable, "VORRANG_") && !strings.HasPrefix(variable, "VORRANG_TARGET_")
}

// mayRefer reports whether a reference is one that lanes and hooks may have: by
// one of the patterns of the service's setting, or, without any, all.
func (s *targets) mayRefer(reference string) bool {
	if list, _, is := lane.PartOf(reference); is {
		reference = list
	}
	return len(s.References) == 0 || slices.ContainsFunc(s.References, func(pattern string) bool {
		is, err := path.Match(pattern, reference)
		return err == nil && is
	})
}

// resolve is what a reference of a lane or a hook stands for, if they may have it.
func (s *targets) resolve(reference string) (string, error) {
	if from, target, is := lane.PartOf(reference); is {
		text, err := s.resolveUpTo(from, mostListed)
		if err != nil {
			return "", err
		}
		_, urls, err := lane.ReadTargets(from, text)
		if err == nil && urls[target] == "" {
			err = fmt.Errorf("the list of targets in %s has no %s any more", from, target)
		}
		if err != nil {
			return "", &engine.ConnectError{Kind: engine.BadURL, Message: err.Error(), Fix: "put the list there as it should be"}
		}
		return urls[target], nil
	}
	return s.resolveUpTo(reference, mostReferred)
}

// resolveUpTo is what a reference stands for, which may have so many bytes.
func (s *targets) resolveUpTo(reference string, most int64) (string, error) {
	if !s.mayRefer(reference) {
		return "", &engine.ConnectError{
			Kind:    engine.BadURL,
			Message: reference + " is not a reference that this service allows",
			Fix:     "vorrangd's setting -references says which it does: " + strings.Join(s.References, ", "),
		}
	}
	if name, isEnv := strings.CutPrefix(reference, "env:"); isEnv && ourOwn(name) {
		return "", &engine.ConnectError{
			Kind:    engine.BadURL,
			Message: "the variable " + name + " is the service's own, and no target's",
			Fix: "put the target's URL into another one, such as VORRANG_TARGET_" +
				strings.TrimPrefix(strings.TrimPrefix(name, "VORRANG_"), "OTEL_"),
		}
	}
	return resolve(reference, most)
}

// resolve turns a reference into what it stands for. Errors name the reference
// only, never what was found there.
func resolve(target string, most int64) (string, error) {
	unusable := func(message, fix string) error {
		return &engine.ConnectError{Kind: engine.BadURL, Message: message, Fix: fix}
	}
	if name, isEnv := strings.CutPrefix(target, "env:"); isEnv {
		if url := os.Getenv(name); url != "" && int64(len(url)) <= most {
			return url, nil
		}
		return "", unusable(
			"the variable "+name+" is not set in the service's environment",
			"set it where vorrangd is started, and start it again",
		)
	}
	const fix = "put what it stands for there, in an ordinary file that the user that vorrangd runs as can read"
	text, err := readSmall(strings.TrimPrefix(target, "file:"), most)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", unusable(target+" is not there", fix)
	case errors.Is(err, fs.ErrPermission):
		return "", unusable("the service may not read "+target, fix)
	case err != nil:
		return "", unusable(target+" is not an ordinary file, or too long", fix)
	}
	return strings.TrimSpace(string(text)), nil
}

// readSmall reads an ordinary file. A pipe or a device does not hold it up.
func readSmall(path string, most int64) ([]byte, error) {
	file, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > most {
		return nil, errors.New("no ordinary file")
	}
	return io.ReadAll(io.LimitReader(file, most))
}

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
	facts.View = p.only(plan.Look(p.environment.Name, p.catalogue, state))
	facts.Chain = <-chain
	if facts.Chain == nil {
		facts.Strange = s.strange(entries, seen)
	}
	if facts.Chain == nil && facts.Strange == "" {
		s.histories.keep(p, read)
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
		if onlyReads(ctx) {
			head := facts.View.State.Head
			s.noted.note(func(ctx context.Context) error {
				return s.Records.SaveHead(ctx, p.lane.Name, p.environment.Name, head)
			})
		} else {
			err = s.Records.SaveHead(ctx, p.lane.Name, p.environment.Name, facts.View.State.Head)
		}
	}
	return facts, entries, err
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
