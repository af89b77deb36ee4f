package service

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"vorrang/core/access"
	"vorrang/core/lane"
	"vorrang/core/remedy"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

// hooks is who may be told of what, and tells them.
type hooks struct {
	*Config
	*work.Hooks
	targets *targets
}

// reference is what env:NAME or file:PATH stands for, or a plain text itself.
func (s *targets) reference(text string) (string, error) {
	if !lane.IsReference(text) {
		return text, nil
	}
	value, err := s.resolve(text)
	if err != nil {
		return "", fmt.Errorf("%s cannot be read by the service", text)
	}
	return value, nil
}

type hooksIn struct {
	Search string `query:"search" description:"Only those in whose name, address or lane this stands."`
	After  string `query:"after" description:"Only those whose names come after this one: next of the page before."`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (s *hooks) hooks(c call, in *hooksIn) (*api.Hooks, error) {
	list, err := s.Records.Hooks(c, records.ListQuery{Search: in.Search, After: in.After, Limit: in.Limit + 1})
	answer := &api.Hooks{Hooks: []api.Hook{}}
	list, answer.Next = page(list, in.Limit, func(h records.Hook) string { return h.Name })
	for _, h := range list {
		answer.Hooks = append(answer.Hooks, api.Hook(h))
	}
	return answer, err
}

type hookIn struct {
	Hook   string   `path:"hook"`
	URL    string   `json:"url" required:"true" secret:"true" description:"Or a reference to it: env:NAME or file:PATH."`
	Secret string   `json:"secret" required:"true" secret:"true" description:"Where the service finds the secret that signs: env:NAME or file:PATH."`
	Events []string `json:"events" required:"true" description:"held, approved, started, failed, done."`
	Lane   string   `json:"lane,omitempty" description:"Only of this lane."`
}

// putHook keeps a hook, new or changed. Its secret is kept as a reference only.
func (s *hooks) putHook(c call, in *hookIn) (*api.Hook, error) {
	if err := access.CheckName(in.Hook); err != nil {
		return nil, badRequest(nil, "hook: %s", err)
	}
	if !lane.IsReference(in.Secret) {
		return nil, badRequest(
			nil,
			"secret: no secret is kept here; write env:NAME or file:PATH, and put it there for the service",
		)
	}
	if !lane.IsReference(in.URL) {
		address, err := url.Parse(in.URL)
		if err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https" {
			return nil, badRequest(nil, "url: it is an address such as https://…, or env:NAME or file:PATH")
		}
		if address.User != nil || address.RawQuery != "" {
			return nil, badRequest(
				nil,
				"url: it holds a password or a query; put such an address where env:NAME or file:PATH finds it",
			)
		}
	}
	for _, event := range in.Events {
		if !slices.Contains(api.HookEvents, event) {
			return nil, badRequest(nil, "events: %q is none; they are held, approved, started, failed, done", event)
		}
	}
	if len(in.Events) == 0 {
		return nil, badRequest(nil, "events: say of what it is told: held, approved, started, failed, done")
	}
	if in.Lane != "" {
		if _, err := s.targets.lane(c, in.Lane); err != nil {
			return nil, err
		}
	}
	h := records.Hook{
		Name:   in.Hook,
		URL:    in.URL,
		Secret: in.Secret,
		Events: slices.Sorted(slices.Values(in.Events)),
		Lane:   in.Lane,
		MadeBy: c.actor,
		MadeAt: s.Now().UTC(),
	}
	shown := api.Hook(h)
	return &shown, s.Records.PutHook(c, h)
}

type oneHookIn struct {
	Hook string `path:"hook"`
}

func (s *hooks) removeHook(c call, in *oneHookIn) (*nothing, error) {
	was, err := s.Records.RemoveHook(c, in.Hook)
	if err == nil && !was {
		err = notFound("hook", in.Hook, see(remedy.LookAtHooks, "see which there are"))
	}
	return &nothing{}, err
}

type deliveriesIn struct {
	Hook   string `query:"hook"`
	Search string `query:"search" description:"Only those in whose hook, event, state or last answer this stands."`
	Before int64  `query:"before" minimum:"0" description:"Only those before this one: next of the page before."`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

func (s *hooks) deliveries(c call, in *deliveriesIn) (*api.Deliveries, error) {
	list, err := s.Records.Deliveries(
		c, in.Hook, records.ListQuery{Search: in.Search, Before: in.Before, Limit: in.Limit + 1})
	answer := &api.Deliveries{Deliveries: []api.Delivery{}}
	list, answer.Next = page(list, in.Limit, func(d records.Delivery) int64 { return d.ID })
	for _, d := range list {
		shown := api.Delivery{
			ID:      d.ID,
			Hook:    d.Hook,
			Type:    d.Type,
			Event:   d.Event,
			MadeAt:  d.MadeAt,
			State:   d.State,
			Tries:   d.Tries,
			Status:  d.Status,
			Message: strings.TrimSpace(d.Message),
			EndedAt: d.EndedAt,
		}
		if d.State == "waiting" {
			shown.NextAt = &d.NextAt
		}
		answer.Deliveries = append(answer.Deliveries, shown)
	}
	return answer, err
}
