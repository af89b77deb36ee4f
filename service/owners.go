package service

import (
	"context"
	"encoding/json"
	"slices"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/core/lane"
	"vorrang/core/ledger"
)

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
func (s *targets) claimable(ctx context.Context, p targetContext, session engine.Session, state ledger.State) error {
	if claim(p, state) == nil {
		return nil
	}
	return s.unshared(ctx, p, session)
}

// unshared refuses a target that is also another environment's, of any lane, as
// far as those can be reached. The server itself tells, not the URLs.
func (s *targets) unshared(ctx context.Context, p targetContext, session engine.Session) error {
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
	return refused(
		by("give each environment a database of its own, in what the target references stand for"),
		"the target of %s/%s is the database of %s/%s: what is deployed to one would change the other, without its gate",
		p.lane.Name, p.environment.Name, twin.lane.Name, twin.environment.Name,
	)
}

// others are all environments of all lanes but one.
func (s *targets) others(ctx context.Context, p targetContext) ([]targetContext, error) {
	lanes, err := s.lanes(ctx)
	list := slices.DeleteFunc(s.placesOf(lanes), func(other targetContext) bool {
		return other.lane.Name == p.lane.Name && other.environment.Name == p.environment.Name
	})
	return list, err
}

// twin finds an environment that has the same database as a session. Those that
// could not be reached come back by themselves.
func (s *targets) twin(
	ctx context.Context, session engine.Session, others []targetContext,
) (twin *targetContext, unreached []targetContext, err error) {
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

// identities says by what the server says of itself which database each target
// is; empty for one that cannot be reached. What a target of a fleet said a moment ago will do: there may be
// hundreds of them.
func (s *targets) identities(ctx context.Context, places []targetContext) []string {
	found := make([]string, len(places))
	each(places, mostAtOnce, func(i int, p targetContext) {
		url := ""
		if lane.TargetOf(p.environment.Name) != "" {
			url, _ = s.resolve(p.environment.Target) // else it is not reached either
			if found[i] = s.known.identity(url); found[i] != "" {
				return
			}
		}
		within, cancel := context.WithTimeout(ctx, lookTimeout)
		defer cancel()
		session, err := s.connect(within, p, "vorrangd")
		if err != nil {
			return
		}
		defer session.Close()
		found[i], _ = session.Identity(within) // none is: not reached
		s.known.keep(url, found[i])
	})
	return found
}

// noteIdentity keeps which database a target of a fleet is, for those that ask soon.
func (s *targets) noteIdentity(ctx context.Context, p targetContext, session engine.Session) {
	if lane.TargetOf(p.environment.Name) == "" {
		return
	}
	url, err := s.resolve(p.environment.Target)
	if err != nil || s.known.identity(url) != "" {
		return
	}
	if identity, err := session.Identity(ctx); err == nil {
		s.known.keep(url, identity)
	}
}

// knownIdentities is for a moment which database a URL leads to.
type knownIdentities struct {
	mu    sync.Mutex
	found map[string]knownIdentity
}

type knownIdentity struct {
	identity string
	until    time.Time
}

// identityKnown is for how long.
const identityKnown = time.Minute

func (k *knownIdentities) identity(url string) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	if one := k.found[url]; time.Now().Before(one.until) {
		return one.identity
	}
	return ""
}

// keep keeps one; nothing for no URL, or none that was reached.
func (k *knownIdentities) keep(url, identity string) {
	if url == "" || identity == "" {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	now := time.Now()
	for old, one := range k.found {
		if now.After(one.until) {
			delete(k.found, old)
		}
	}
	if k.found == nil {
		k.found = map[string]knownIdentity{}
	}
	k.found[url] = knownIdentity{identity, now.Add(identityKnown)}
}

// placesOf are the environments of lanes, in their order.
func (s *targets) placesOf(lanes []lane.Lane) []targetContext {
	var list []targetContext
	for _, l := range lanes {
		for _, e := range l.Places() {
			list = append(list, s.at(l, e, nil))
		}
	}
	return list
}

// distinct refuses a lane of which an environment would have the same database as
// another one, of this lane or of others. The lists of its fleets have been read.
func (s *targets) distinct(ctx context.Context, l lane.Lane) error {
	lanes, err := s.lanes(ctx)
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

// twinPatience bounds how long the other environments are asked together.
const twinPatience = 10 * time.Second

// mostAtOnce is how many targets are asked at a time by one request.
const mostAtOnce = 8
