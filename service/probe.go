package service

import (
	"cmp"
	"fmt"
	"slices"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/service/api"
)

type ledgerIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Limit       int    `query:"limit" minimum:"0" description:"So many entries; 0 means all."`
	Before      int64  `query:"before" minimum:"0" description:"Only those before the entry with this number; the newest if absent."`
	Step        string `query:"step" description:"Only those about this step."`
}

func (s *views) ledger(c call, in *ledgerIn) (*api.Ledger, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	session, err := s.targets.connect(c, p, "vorrangd ledger")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	facts, entries, err := s.targets.look(c, p, session)
	if err != nil {
		return nil, err
	}
	answer := &api.Ledger{Exists: len(entries) > 0, Total: len(entries), Entries: []ledger.Entry{}}
	if facts.Chain != nil {
		answer.Chain = facts.Chain.Error()
	}
	wanted, err := optionalNumber("step", in.Step)
	if err != nil {
		return nil, err
	}
	for _, e := range slices.Backward(entries) {
		if in.Before > 0 && e.Seq >= in.Before || wanted != "" && e.Step != wanted {
			continue
		}
		if in.Limit > 0 && len(answer.Entries) == in.Limit {
			answer.Next = answer.Entries[in.Limit-1].Seq
			break
		}
		answer.Entries = append(answer.Entries, e)
	}
	return answer, nil
}

// ledgerSetup gives what gives a target's ledger an owner of its own.
func (s *views) ledgerSetup(c call, in *environmentIn) (*api.LedgerSetup, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	if p.environment.LedgerRole == "" {
		return nil, refused(
			by("declare ledger-role and ledger-key for it in lane.yaml first; docs/ledger.md says why one would"),
			"the ledger of %s has no owner of its own",
			p.environment.Name,
		)
	}
	session, err := s.targets.connect(c, p, "vorrangd ledger")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	seen, err := session.Probe(c, "")
	if err != nil {
		return nil, err
	}
	scripts, err := p.scripts()
	if err != nil {
		return nil, err
	}
	return &api.LedgerSetup{SQL: scripts.LedgerOwnerSQL(p.environment.LedgerRole, seen.User)}, nil
}

// engines lists what the service works on.
func (s *views) engines(call, *nothing) (*api.Engines, error) {
	answer := &api.Engines{Engines: []api.Engine{}}
	for _, name := range s.Engines.Names() {
		answer.Engines = append(answer.Engines, api.Engine{Name: name, Traits: s.Engines[name].Traits()})
	}
	return answer, nil
}

// services lists those that share the records.
func (s *views) services(c call, _ *nothing) (*api.Services, error) {
	list, err := s.Records.Services(c)
	answer := &api.Services{Services: []api.OneService{}}
	for _, one := range list {
		answer.Services = append(answer.Services, api.OneService{
			ID: one.ID, Host: one.Host, Process: one.Process, Version: one.Version, StartedAt: one.StartedAt.UTC(),
			Running: one.Running, Answers: one.ID == s.Records.Service(),
		})
	}
	return answer, err
}

// scripts is what writes files that are run without Vorrang.
func (p targetContext) scripts() (engine.Scripts, error) {
	scripts, can := p.engine.(engine.Scripts)
	if !can {
		return nil, refused(
			by("let the service deploy it"),
			"no file can be written for %s in this version",
			p.lane.Engine,
		)
	}
	return scripts, nil
}

func (s *views) probe(c call, in *environmentIn) (*api.Probe, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	answer := &api.Probe{Lane: in.Lane, Environment: in.Environment, Looks: []engine.Look{}}
	session, err := s.targets.connect(c, p, "vorrangd probe")
	if err == nil {
		defer session.Close()
		var seen engine.Probe
		if seen, err = session.Probe(c, p.environment.Role); err == nil {
			facts, _, err := s.targets.look(c, p, session)
			fillProbe(answer, seen, p.environment, facts, p.engine.Traits())
			if err == nil && facts.Foreign() {
				check := gate.Back(facts, nil).Find(gate.KnownDatabase)
				answer.Looks = append(
					answer.Looks,
					engine.Look{What: "owner", Message: check.Evidence, Remedies: check.Remedies},
				)
				answer.Usable = false
			}
			return answer, err
		}
	}
	trouble := unreachable(err)
	look := engine.Look{What: "connection", Message: trouble.Message}
	if len(trouble.Remedies) > 0 && trouble.Remedies[0].Act == "" { // another probe would say no more
		look.Fix = trouble.Remedies[0].Reason
	}
	answer.Looks = append(answer.Looks, look)
	return answer, nil
}

func fillProbe(answer *api.Probe, seen engine.Probe, e lane.Environment, facts gate.Facts, server engine.Traits) {
	major := 0
	_, _ = fmt.Sscanf(seen.Version, "%d", &major)
	version := server.Server + " " + seen.Version
	if !slices.Contains(server.Tried, major) {
		version += fmt.Sprintf(", with which Vorrang is not tested; it is with %s", server.Versions())
	}
	rest := slices.Clone(seen.Looks[1:])
	seen.Looks = seen.Looks[:1] // the connection comes first, and then what answers there
	seen.Look(
		"version", major >= server.Oldest, version,
		fmt.Sprintf("use %s %d or newer", server.Server, server.Oldest),
	)
	seen.Looks = append(seen.Looks, rest...)
	for i, look := range seen.Looks {
		if look.What == "ledger" && e.LedgerRole != "" { // not what the user may write, but what its owner set up
			seen.Looks = slices.Delete(seen.Looks, i, i+1)
			seen.Look(
				"ledger",
				facts.Altered == "",
				cmp.Or(
					facts.Altered,
					"belongs to "+e.LedgerRole+", and user "+seen.User+" cannot write it but by proof",
				),
				"",
			)
			if facts.Altered != "" {
				seen.Looks[len(seen.Looks)-1].Remedies = facts.FixLedger()
			}
			break
		}
	}
	answer.Version, answer.Database, answer.User, answer.Looks = seen.Version, seen.Database, seen.User, seen.Looks
	answer.Usable = !slices.ContainsFunc(seen.Looks, func(l engine.Look) bool { return !l.OK })
}
