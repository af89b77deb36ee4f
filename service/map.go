package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/schema"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/service/chart"
)

type mapIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Deployment  int64  `query:"deployment" description:"As this deployment left it; as it is now, if absent."`
	Since       string `query:"since" description:"Mark what differs from another point: before (the deployment), known (what the last deployment left), an environment's name, or a deployment's number."`
}

// schemaMap lays out the tables and foreign keys of a point of the history.
func (s *schemas) schemaMap(c call, in *mapIn) (*api.SchemaMap, error) {
	now, err := s.pointOf(c, in)
	if err != nil {
		return nil, err
	}
	before, err := s.sinceOf(c, in)
	if err != nil {
		return nil, err
	}
	answer := &api.SchemaMap{Differences: []schema.Difference{}}
	if before != nil {
		answer.Differences = schema.Effect(*before, now)
	} else {
		before = &schema.Schema{}
	}
	answer.Map, err = s.maps.draw(c, now, answer.Differences, *before)
	return answer, err
}

// pointOf is the schema that a map shows.
func (s *schemas) pointOf(c call, in *mapIn) (schema.Schema, error) {
	if in.Deployment != 0 {
		left, err := s.leftBy(c, in.Lane, in.Deployment)
		return left.Schema, err
	}
	now, _, err := s.snapshotOf(c, in.Lane, in.Environment)
	return now, err
}

// sinceOf is the schema that a map's differences are from; nil for none.
func (s *schemas) sinceOf(c call, in *mapIn) (*schema.Schema, error) {
	switch in.Since {
	case "":
		return nil, nil
	case "before":
		if in.Deployment == 0 {
			return nil, badRequest(nil, "since: before is before a deployment; name one")
		}
		before, err := s.Records.SchemaBefore(c, in.Lane, in.Environment, in.Deployment)
		return before, err
	case "known":
		known, err := s.Records.KnownSchema(c, in.Lane, in.Environment)
		if errors.Is(err, records.ErrNotFound) {
			err = notFound("kept schema of", in.Lane+"/"+in.Environment, by("the next deployment keeps one"))
		}
		return &known.Schema, err
	}
	if number, err := strconv.ParseInt(in.Since, 10, 64); err == nil {
		left, err := s.leftBy(c, in.Lane, number)
		return &left.Schema, err
	}
	other, _, err := s.snapshotOf(c, in.Lane, in.Since)
	return &other, err
}

// svg answers with a map as a picture.
func (s *schemas) svg(c call, in *mapIn) (*api.SchemaMap, error) {
	m, err := s.schemaMap(c, in)
	if err != nil {
		return nil, err
	}
	title := fmt.Sprintf("%s/%s", in.Lane, in.Environment)
	if in.Deployment != 0 {
		title += fmt.Sprintf(" after deployment %d", in.Deployment)
	}
	c.fiber.Set(fiber.HeaderContentSecurityPolicy, "default-src 'none'; style-src "+chart.StyleSource)
	c.fiber.Set(fiber.HeaderContentType, "image/svg+xml")
	return nil, c.fiber.SendString(chart.SVG(m.Map, title))
}

type knownIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Search      string `query:"search" description:"Only those in whose deployment, actor or reason this stands, or why they were kept."`
	Before      int64  `query:"before" minimum:"0" description:"Only those before this one: next of the page before."`
	Limit       int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
}

// known lists the points of an environment's history whose schema was kept.
func (s *schemas) known(c call, in *knownIn) (*api.Known, error) {
	if _, err := s.targets.place(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	list, err := s.Records.Snapshots(
		c, in.Lane, in.Environment, records.ListQuery{Search: in.Search, Before: in.Before, Limit: in.Limit + 1})
	answer := &api.Known{Known: []api.KnownSchema{}}
	list, answer.Next = page(list, in.Limit, func(k records.Snapshot) int64 { return k.ID })
	for _, k := range list {
		answer.Known = append(
			answer.Known,
			api.KnownSchema{
				Why:         k.Why,
				Deployment:  k.Deployment,
				Fingerprint: k.Fingerprint,
				Actor:       k.Actor,
				Reason:      k.Reason,
				At:          k.At,
			},
		)
	}
	return answer, err
}

// maps remembers the newest layouts: they take longer than anything else that
// is checked.
type maps struct {
	mu    sync.Mutex
	drawn map[string]*api.Map
	order []string
}

const mostMaps = 16

func (m *maps) draw(
	ctx context.Context, now schema.Schema, differences []schema.Difference, before schema.Schema,
) (*api.Map, error) {
	key := now.Fingerprint() + " " + before.Fingerprint()
	m.mu.Lock()
	drawn, known := m.drawn[key]
	m.mu.Unlock()
	if known {
		return drawn, nil
	}
	drawn, err := chart.Draw(ctx, now, differences, before)
	if err != nil {
		return nil, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.drawn == nil {
		m.drawn = map[string]*api.Map{}
	}
	m.drawn[key] = drawn
	if m.order = append(m.order, key); len(m.order) > mostMaps {
		delete(m.drawn, m.order[0])
		m.order = m.order[1:]
	}
	return drawn, nil
}
