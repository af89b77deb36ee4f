package service

import (
	"bytes"
	"errors"

	"github.com/gofiber/fiber/v3"

	"vorrang/records"
	"vorrang/service/api"
	"vorrang/service/report"
)

type reportIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Release     string `query:"release" description:"The steps of this release; loose steps if absent."`
}

// report writes what a reviewer reads of a promotion: what would run, what a review and
// the newest rehearsal of exactly this found, and the gate.
func (s *deploying) report(c call, in *reportIn) (*nothing, error) {
	const mostSQL = 200_000 // bytes of a step that are shown
	preview, err := s.preview(
		c,
		&previewIn{Lane: in.Lane, Environment: in.Environment, Release: in.Release, Limit: mostSQL},
	)
	if err != nil {
		return nil, err
	}
	p, err := s.gates.placeOf(c, in.Lane, in.Environment, in.Release)
	if err != nil {
		return nil, err
	}
	page := report.Page{
		Lane: in.Lane, Environment: in.Environment, Release: p.release,
		MadeBy: c.actor, MadeAt: s.Now(), Preview: preview,
	}
	if page.Rehearsed, err = s.rehearsedOf(c, p, preview); err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if err := report.Write(&text, page); err != nil {
		return nil, err
	}
	c.fiber.Set(
		fiber.HeaderContentSecurityPolicy,
		"default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'",
	)
	c.fiber.Set(fiber.HeaderContentType, "text/html; charset=utf-8")
	return nil, c.fiber.Send(text.Bytes())
}

// rehearsedOf is the newest rehearsal of a plan that was previewed; nil for none.
func (s *deploying) rehearsedOf(c call, p targetContext, preview *api.Preview) (*api.Rehearsed, error) {
	if len(preview.Actions) == 0 {
		return nil, nil
	}
	digest := preview.Actions[len(preview.Actions)-1].Plan
	kept, err := s.Records.Rehearsed(c, p.lane.Name, p.environment.Name, digest, "")
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return rehearsedShown(kept), nil
}
