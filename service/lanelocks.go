package service

import "sync"

// laneLocks keeps what a gate depends on still while a deployment passes: from the
// moment that the gate is asked for the last time until the first statement
// begins, nobody adds a freeze, takes an approval back, or submits. A service
// has its records for itself, so a lock in memory does.
type laneLocks struct {
	mu    sync.Mutex
	lanes map[string]*sync.RWMutex
}

func (l *laneLocks) of(lane string) *sync.RWMutex {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lanes == nil {
		l.lanes = map[string]*sync.RWMutex{}
	}
	if l.lanes[lane] == nil {
		l.lanes[lane] = &sync.RWMutex{}
	}
	return l.lanes[lane]
}

// pass holds a lane still until the returned function is called, which may
// happen more than once.
func (l *laneLocks) pass(lane string) (unlock func()) {
	lock := l.of(lane)
	lock.RLock()
	return sync.OnceFunc(lock.RUnlock)
}

// change does what gates of a lane depend on, while no deployment passes.
func (l *laneLocks) change(lane string, do func() error) error {
	lock := l.of(lane)
	lock.Lock()
	defer lock.Unlock()
	return do()
}
