package service

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"vorrang/core/engine"
)

// idleFor is how long a session is kept after a look, for the next one: pages ask every few
// seconds, and a password takes the server and us longer to agree on than most questions.
const idleFor = 10 * time.Second

// idleSessions keeps a session for each target for a while.
type idleSessions struct {
	mu     sync.Mutex
	kept   map[string]*idleSession
	closed bool
}

type idleSession struct {
	session engine.Session
	timer   *time.Timer
}

func newIdleSessions() *idleSessions { return &idleSessions{kept: map[string]*idleSession{}} }

// idleKey is what a session must agree in to be used again; empty for a target whose
// sessions are not kept.
func (s *targets) idleKey(p targetContext) string {
	url, err := s.resolve(p.environment.Target)
	if err != nil || p.environment.LedgerRole != "" {
		return ""
	}
	return fmt.Sprintf("%s\n%s\n%s", p.lane.Engine, strings.Join(p.environment.Schemas, "\n"), url)
}

// take gives a session that was kept, which is then the caller's; nil where there is none.
func (i *idleSessions) take(key string) engine.Session {
	i.mu.Lock()
	defer i.mu.Unlock()
	one := i.kept[key]
	if one == nil {
		return nil
	}
	one.timer.Stop()
	delete(i.kept, key)
	return one.session
}

// keep takes a session over that holds nothing from others, and closes it in a while. Others
// are closed at once.
func (i *idleSessions) keep(key string, session engine.Session) {
	idler, can := session.(engine.Idler)
	i.mu.Lock()
	if key == "" || !can || !idler.Idle() || i.closed || i.kept[key] != nil {
		i.mu.Unlock()
		session.Close()
		return
	}
	one := &idleSession{session: session}
	one.timer = time.AfterFunc(idleFor, func() { i.let(key, one) })
	i.kept[key] = one
	i.mu.Unlock()
}

// let closes a session that nobody took in time.
func (i *idleSessions) let(key string, one *idleSession) {
	i.mu.Lock()
	mine := i.kept[key] == one
	if mine {
		delete(i.kept, key)
	}
	i.mu.Unlock()
	if mine {
		one.session.Close()
	}
}

// close closes all, and keeps none from then on.
func (i *idleSessions) close() {
	i.mu.Lock()
	kept := i.kept
	i.kept, i.closed = map[string]*idleSession{}, true
	i.mu.Unlock()
	for _, one := range kept {
		one.timer.Stop()
		one.session.Close()
	}
}
