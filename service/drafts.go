package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/access"
	"vorrang/core/draft"
	"vorrang/core/engine"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

type draftIn struct {
	Lane        string   `path:"lane"`
	Environment string   `json:"environment,omitempty" description:"Draft the first step of this environment's database; or, with drift, a step of what drifted there."`
	Drift       string   `json:"drift,omitempty" enum:"keep,undo" description:"Of what drifted: a step that does the same, to be attested there, or one that takes it back."`
	From        string   `json:"from,omitempty" description:"Draft a step that gives another environment this one's schema."`
	With        string   `json:"with,omitempty" description:"The other environment."`
	Renames     []string `json:"renames,omitempty" description:"OLD=NEW for each table or column that is to be renamed; none, if nothing else is."`
	Owners      bool     `json:"owners,omitempty" description:"Owners and grants too."`
	Rows        []string `json:"rows,omitempty" description:"Tables whose rows come with the first step, as COPY."`
}

// draft writes steps from schemas, and proves them in a scratch database.
func (s *schemas) draft(c call, in *draftIn) (*api.Draft, error) {
	request := draft.Request{Owners: in.Owners}
	for _, text := range in.Renames {
		if text == "none" {
			request.Settled = true
			continue
		}
		r, err := draft.ParseRename(text)
		if err != nil {
			return nil, badRequest(nil, "renames: %s", err)
		}
		request.Renames = append(request.Renames, r)
	}
	p, about, err := s.desired(c, in, &request)
	if err != nil {
		return nil, err
	}
	made, err := s.proved(c, p, request)
	if err != nil {
		return nil, err
	}
	answer := &api.Draft{About: about, Draft: *made}
	answer.Questions = append([]draft.Question{}, made.Questions...)
	only := "" // what was changed by hand in one place is undone there
	if in.Drift == "undo" {
		only = in.Environment
	}
	for i := range answer.Steps {
		answer.Steps[i].Forward = header(answer, i, c.actor, only) + answer.Steps[i].Forward
	}
	if !made.Proved && made.Why != "" {
		answer.Steps = []draft.Step{} // nothing is handed out that was not proved
	}
	return answer, nil
}

// desired reads the schemas that a draft is made from, and says in words what
// from.
func (s *schemas) desired(c call, in *draftIn, request *draft.Request) (p targetContext, about string, err error) {
	switch {
	case in.Environment != "" && in.From == "" && in.With == "":
	case in.Environment == "" && in.From != "" && in.With != "" && in.Drift == "" && len(in.Rows) == 0:
	default:
		return p, "", badRequest(nil, "give environment, with or without drift and rows; or from and with")
	}
	switch {
	case in.Drift != "":
		return s.desiredByDrift(c, in, request)
	case in.From != "":
		one, p, err := s.seenOf(c, in.Lane, in.From, withNeeds)
		if err != nil {
			return p, "", err
		}
		other, there, err := s.seenOf(c, in.Lane, in.With, withNeeds)
		if err != nil {
			return p, "", err
		}
		request.Desired, request.Present = one, &other
		if request.Schemas = p.environment.Schemas; there.environment.Schemas == nil {
			request.Schemas = nil
		}
		return p, fmt.Sprintf("gives %s/%s the schema of %s/%s", in.Lane, in.With, in.Lane, in.From), nil
	}
	session, p, err := s.open(c, in.Lane, in.Environment, "vorrangd draft")
	if err != nil {
		return p, "", err
	}
	defer session.Close()
	request.Schemas = p.environment.Schemas
	if request.Desired, err = session.SnapshotWithNeeds(c, p.environment.Schemas); err != nil {
		return p, "", err
	}
	left := step.MaxFileSize
	for _, table := range in.Rows {
		scope := access.Scope{Lane: in.Lane, Environment: in.Environment}
		if keeper := access.By(access.Keeper); !c.who.Grants.Allow(keeper, scope) { // rows leave the database
			return p, "", forbidden(c.who, keeper, scope)
		}
		if !slices.ContainsFunc(request.Desired.Objects, func(o schema.Object) bool {
			return o.Kind == schema.Table && o.Name == table && o.Props[schema.OnServer] == ""
		}) {
			return p, "", badRequest(
				by("name it as harbour.vessel, quoted where the server would quote it"),
				"rows: there is no table %s in %s",
				table, in.Environment,
			)
		}
		copier, can := session.(engine.Copier)
		if !can {
			return p, "", refused(
				by("copy its rows by other means"),
				"rows of %s cannot be drafted in this version",
				p.lane.Engine,
			)
		}
		rows, err := copier.Rows(c, request.Desired, table, left)
		if errors.Is(err, engine.ErrTooManyRows) {
			return p, "", refused(by("leave it out, and copy its rows by other means"), "%s", err)
		}
		if err != nil {
			return p, "", err
		}
		left -= len(rows.Data)
		request.Rows = append(request.Rows, rows)
	}
	return p, fmt.Sprintf("makes the schema of %s/%s from nothing", in.Lane, in.Environment), nil
}

func (s *schemas) desiredByDrift(c call, in *draftIn, request *draft.Request) (targetContext, string, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return p, "", err
	}
	known, err := s.Records.KnownSchema(c, in.Lane, in.Environment)
	if errors.Is(err, records.ErrNotFound) {
		return p, "", refused(
			p.do(remedy.LookAtDrift, "see why"),
			"what the last deployment left of %s is not known",
			in.Environment,
		)
	}
	if err != nil {
		return p, "", err
	}
	_, now, err := s.drifts.lookForDrift(c, p, withNeeds)
	if err != nil {
		return p, "", err
	}
	request.Schemas = p.environment.Schemas
	from := strings.TrimSuffix(knownFrom(known), ",")
	if in.Drift == "undo" {
		request.Desired, request.Present = known.Schema, &now
		return p, fmt.Sprintf("takes back what was changed on %s/%s since %s", in.Lane, in.Environment, from), nil
	}
	request.Desired, request.Present = now, &known.Schema
	return p, fmt.Sprintf("does what was done by hand on %s/%s since %s", in.Lane, in.Environment, from), nil
}

// open opens a session on an environment's target.
func (s *schemas) open(
	ctx context.Context, lane, environment, application string,
) (engine.Session, targetContext, error) {
	p, err := s.targets.place(ctx, lane, environment)
	if err != nil {
		return nil, p, err
	}
	session, err := s.targets.connect(ctx, p, application)
	return session, p, err
}

// proofPatience bounds a draft with its proof.
const proofPatience = 10 * time.Minute

// proved makes a draft in a scratch database on the server of a disposable
// environment.
func (s *schemas) proved(ctx context.Context, p targetContext, request draft.Request) (*draft.Draft, error) {
	writer, can := p.engine.(engine.Drafter)
	if !can {
		return nil, refused(
			or(by("write the step by hand"), p.do(remedy.LookAtDrift, "see what differs")),
			"steps for %s cannot be drafted in this version",
			p.lane.Engine,
		)
	}
	shop, err := workshopOf(p, nil)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, proofPatience)
	defer cancel()
	scratch, err := s.builder.newScratch(ctx, p, shop)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	request.Writer = writer
	return draft.Make(ctx, scratch, request)
}

// header is what stands above a drafted step: its options, what it was made
// from, how it was proved, and what a reviewer must know.
func header(d *api.Draft, i int, actor, only string) string {
	var b strings.Builder
	var options []string
	if d.Steps[i].Autocommit {
		options = append(options, "mode: autocommit")
	}
	if only != "" {
		options = append(options, "only: "+only)
	}
	if len(options) > 0 {
		fmt.Fprintf(&b, "/*---\n%s\n---*/\n", strings.Join(options, "\n"))
	}
	say := func(format string, args ...any) {
		b.WriteString("-- " + strings.Join(strings.Fields(fmt.Sprintf(format, args...)), " ") + "\n")
	}
	part := ""
	if len(d.Steps) > 1 {
		part = fmt.Sprintf(", part %d of %d", i+1, len(d.Steps))
	}
	say("A draft for review%s: it %s.", part, d.About)
	say("Made for %s at %s from the schema with the fingerprint %s.", actor, utc(time.Now()), d.DesiredFingerprint)
	if d.PresentFingerprint != "" {
		say("What is there before has the fingerprint %s.", d.PresentFingerprint)
	}
	if d.Proved {
		say(
			"Proved in a scratch database: forward it makes that schema, and its way back leaves what was there before.",
		)
	}
	if i == 0 {
		for _, loss := range d.Losses {
			say("! It loses %s.", loss)
		}
		for _, u := range append(slices.Clone(d.Undraftable), d.Irreversible...) {
			say("! Not drafted: %s %s: %s.", u.Kind, u.Name, u.Why)
		}
		for _, table := range d.Reordered {
			say("! The columns of %s are in another order there; no statement fixes that.", table)
		}
		for _, u := range d.Uncovered {
			say("! Not compared: %s (%s).", plural.Count(u.Count, u.What, u.What+"s"), strings.Join(u.Names, ", "))
		}
	}
	return b.String() + "\n"
}
