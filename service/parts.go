package service

import (
	"context"
	"time"

	"vorrang/work"
)

// The service is made of parts, each for one concern. A part knows those above it, and
// none below.

// book is the audit.
type book struct {
	*Config
	running *work.Deployments
}

// targets are the environments of the lanes, and what stands on their servers.
type targets struct {
	*Config
	histories histories
	known     knownIdentities
	lists     lists
	resting   resting
	noted     *noted
}

// identities is who may come in: people, machines, their sessions and tokens.
type identities struct {
	*Config
	book         *book
	targets      *targets
	openIDSignIn openIDSignIn
}

// library is the texts of steps and releases.
type library struct {
	*Config
	targets *targets
}

// builder builds steps in scratch databases.
type builder struct {
	*Config
	targets *targets
	library *library
}

// drifts is what is known of schemas, and how targets differ from it.
type drifts struct {
	*Config
	targets *targets
	hooks   *hooks
	running *work.Deployments
	looks   *work.Round
	noted   *noted
	seen    seenSchemas
}

// gates is all that a gate asks for.
type gates struct {
	*Config
	targets *targets
	library *library
	drifts  *drifts
	hooks   *hooks
	looking *looking
}

// repairs is what somebody's word changes in a ledger.
type repairs struct {
	*Config
	targets *targets
	library *library
	builder *builder
	drifts  *drifts
}

// deploying is promotions, rollbacks and rebuilds, from the preview to what became of them.
type deploying struct {
	*Config
	targets    *targets
	library    *library
	builder    *builder
	drifts     *drifts
	gates      *gates
	hooks      *hooks
	repairs    *repairs
	book       *book
	identities *identities
	looking    *looking
	metrics    *metrics
	running    *work.Deployments
	fleets     *work.Fleets
	rehearsing *work.Rehearsals
	schedules  *work.Round
	news       *news
	others     *others
	// of what a deployment tells and writes; a test may put a fault there
	eventClock func() time.Time
}

// catalogue is lanes, their steps, and releases of them.
type catalogue struct {
	*Config
	targets *targets
	library *library
	gates   *gates
	uploads *uploads
	looks   *work.Round // to be woken where a lane changes
	wasCut  func(lane, release, actor string)
}

// views is how things stand.
type views struct {
	*Config
	targets *targets
	library *library
	gates   *gates
	looking *looking
}

// schemas is what targets look like: compared, drawn and drafted.
type schemas struct {
	*Config
	targets *targets
	library *library
	builder *builder
	drifts  *drifts
	maps    maps
}

// parts makes them all.
func (s *Service) parts(running *work.Deployments) {
	config := &s.Config
	s.book = &book{config, running}
	notes := &noted{}
	s.targets = &targets{Config: config, noted: notes, resting: resting{long: restsFor}}
	s.hooks = &hooks{config, work.NewHooks(s.Records, s.Log, s.targets.reference, s.HookNetworks), s.targets}
	s.identities = &identities{Config: config, book: s.book, targets: s.targets}
	library := &library{config, s.targets}
	s.builder = &builder{config, s.targets, library}
	s.drifts = &drifts{
		Config: config, targets: s.targets, hooks: s.hooks, running: running, noted: notes, seen: seenSchemas{now: config.Now},
	}
	s.drifts.looks = work.NewRound("looks for drift", s.drifts.nextLook, s.drifts.lookAround)
	s.gates = &gates{config, s.targets, library, s.drifts, s.hooks, s.looking}
	s.repairs = &repairs{config, s.targets, library, s.builder, s.drifts}
	s.deploying = &deploying{
		Config:     config,
		targets:    s.targets,
		library:    library,
		builder:    s.builder,
		drifts:     s.drifts,
		gates:      s.gates,
		hooks:      s.hooks,
		repairs:    s.repairs,
		book:       s.book,
		identities: s.identities,
		looking:    s.looking,
		metrics:    s.metrics,
		running:    running,
		rehearsing: work.NewRehearsals(s.Log, s.Records.AddRehearsalEvents),
		news:       newNews(),
		eventClock: s.Now,
	}
	s.deploying.schedules = work.NewRound(
		"schedules",
		func(ctx context.Context) (time.Time, bool, error) { return s.Records.NextDue(ctx) },
		s.deploying.beginDue,
	)
	s.deploying.fleets = work.NewFleets(running)
	s.deploying.fleets.Parts, s.deploying.fleets.Told = s.deploying.parts, s.deploying.toldOfFleet
	s.deploying.others = newOthers(s.deploying)
	notes.wake = s.deploying.others.soon
	s.catalogue = &catalogue{
		config,
		s.targets,
		library,
		s.gates,
		newUploads(),
		s.drifts.looks,
		s.deploying.rehearseRelease,
	}
	s.views = &views{config, s.targets, library, s.gates, s.looking}
	s.schemas = &schemas{Config: config, targets: s.targets, library: library, builder: s.builder, drifts: s.drifts}
}
