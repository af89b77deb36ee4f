package service

import "sync"

// doors keeps what a gate depends on still while a deployment passes: from the
// moment that the gate is asked for the last time until the first statement
// begins, nobody adds a freeze, takes an approval back, or submits. A service
// has its records for itself, so a lock in memory does.
type doors struct {
	mu    sync.Mutex
	lanes map[string]*sync.RWMutex
}

func (d *doors) of(lane string) *sync.RWMutex {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.lanes == nil {
		d.lanes = map[string]*sync.RWMutex{}
	}
	if d.lanes[lane] == nil {
		d.lanes[lane] = &sync.RWMutex{}
	}
	return d.lanes[lane]
}

// pass holds a lane still until the returned function is called, which may
// happen more than once.
func (d *doors) pass(lane string) (through func()) {
	door := d.of(lane)
	door.RLock()
	return sync.OnceFunc(door.RUnlock)
}

// change does what gates of a lane depend on, while no deployment passes.
func (d *doors) change(lane string, do func() error) error {
	door := d.of(lane)
	door.Lock()
	defer door.Unlock()
	return do()
}
