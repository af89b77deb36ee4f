package service

import (
	"context"
	"fmt"
	"sync"

	"vorrang/core/lane"
	"vorrang/internal/plural"
)

// Checked is one reference of a lane file, as a service with a configuration would meet
// it.
type Checked struct {
	Lane, Environment string
	Key               string // of the lane file, such as target
	Reference         string
	Problem, Fix      string // empty where it can be used
	Found             string // what is there
}

// checkedAtOnce is how many targets are reached at the same time.
const checkedAtOnce = 8

// CheckReferences reaches what the lanes refer to, and changes nothing there. The answers
// are in the order of the lanes' files.
func CheckReferences(ctx context.Context, config Config, lanes []lane.Lane) []Checked {
	all := []Checked{}
	var checks []func() // that fill one each
	for _, l := range lanes {
		for _, e := range (&targets{Config: &config}).listed(l).Environments {
			for _, one := range allReferences(e) {
				all = append(all, Checked{Lane: l.Name, Environment: e.Name, Key: one.Key, Reference: one.Value})
				at := len(all) - 1
				checks = append(checks, func() { (&targets{Config: &config}).check(ctx, l, e, &all[at]) })
			}
		}
	}
	var wait sync.WaitGroup
	turns := make(chan struct{}, checkedAtOnce)
	for _, check := range checks {
		turns <- struct{}{}
		wait.Go(func() {
			defer func() { <-turns }()
			check()
		})
	}
	wait.Wait()
	return all
}

// allReferences are those that an environment has, with the targets of a list.
func allReferences(e lane.Environment) []lane.Reference {
	list := e.References()
	if e.Fleet != nil && e.Fleet.From != "" {
		for _, t := range e.Fleet.Targets {
			list = append(list, lane.Reference{Key: "targets", Value: t.Reference})
		}
	}
	return list
}

func (s *targets) check(ctx context.Context, l lane.Lane, e lane.Environment, c *Checked) {
	wrong := func(err error) {
		trouble := unreachable(err)
		c.Problem = trouble.Message
		if len(trouble.Remedies) > 0 && trouble.Remedies[0].Act == "" {
			c.Fix = trouble.Remedies[0].Reason
		}
	}
	if c.Key == "ledger-key" {
		if _, err := s.resolve(c.Reference); err != nil {
			wrong(err)
		}
		c.Found = "can be read"
		return
	}
	if e.Fleet != nil && c.Reference == e.Fleet.From {
		c.Problem, c.Found = e.Fleet.Unread, plural.Of(len(e.Fleet.Targets), "target")
		return
	}
	e.Target = c.Reference
	session, err := s.connect(ctx, targetContext{lane: l, environment: e}, "vorrangd check")
	if err != nil {
		wrong(err)
		return
	}
	defer session.Close()
	role := ""
	if c.Key == "target" || c.Key == "targets" {
		role = e.Role
	}
	seen, err := session.Probe(ctx, role)
	if err != nil {
		wrong(err)
		return
	}
	c.Found = fmt.Sprintf("%s, database %s", seen.Version, seen.Database)
	if seen.User != "" {
		c.Found += ", user " + seen.User
	}
	if c.Key != "target" && c.Key != "targets" { // who makes databases there needs no ledger in this one
		return
	}
	for _, look := range seen.Looks {
		if !look.OK && c.Problem == "" {
			c.Problem, c.Fix = look.Message, look.Fix
		}
	}
}
