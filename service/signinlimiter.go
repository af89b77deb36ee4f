package service

import (
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// signInLimiter slows down who guesses. Wrong tries from an address to be
// one person are answered later and later; nobody's name is locked for others. Each address has
// a budget over all names. What is remembered is bounded.
type signInLimiter struct {
	mu        sync.Mutex
	wrong     *lru.Cache[string, *guesses]      // by name and address
	addresses *lru.Cache[string, *rate.Limiter] // by address
}

// guesses are the wrong tries of one address to be one person.
type guesses struct {
	wrong   int
	next    time.Time // before it no try is checked
	refused int       // tries that were not checked since the last one that was
}

const (
	freeTries  = 5 // wrong ones that cost nothing
	longestGap = 5 * time.Minute
	remembered = 10_000

	addressTries = 100 // at once, of one address; later one for each second
)

func newSignInLimiter() *signInLimiter {
	wrong, err := lru.New[string, *guesses](remembered)
	if err != nil {
		panic(err) // of a size that is not above 0
	}
	addresses, err := lru.New[string, *rate.Limiter](remembered)
	if err != nil {
		panic(err)
	}
	return &signInLimiter{wrong: wrong, addresses: addresses}
}

// allow reports whether a try is checked, how long to wait if it is not, and
// how many were refused before it.
func (t *signInLimiter) allow(name, address string, now time.Time) (wait time.Duration, refused int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	g, known := t.wrong.Get(name + "\n" + address)
	if known && now.Before(g.next) {
		g.refused++
		return g.next.Sub(now), 0
	}
	limiter, known := t.addresses.Get(address)
	if !known {
		limiter = rate.NewLimiter(1, addressTries)
		t.addresses.Add(address, limiter)
	}
	if !limiter.AllowN(now, 1) {
		return time.Second, 0
	}
	if g != nil {
		refused, g.refused = g.refused, 0
	}
	return 0, refused
}

// failed notes a wrong try.
func (t *signInLimiter) failed(name, address string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	key := name + "\n" + address
	g, known := t.wrong.Get(key)
	if !known {
		g = &guesses{}
		t.wrong.Add(key, g)
	}
	if g.wrong++; g.wrong >= freeTries {
		g.next = now.Add(min(time.Second<<min(g.wrong-freeTries, 20), longestGap))
	}
}

// right forgets the wrong tries of somebody who has signed in.
func (t *signInLimiter) right(name, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.wrong.Remove(name + "\n" + address)
}
