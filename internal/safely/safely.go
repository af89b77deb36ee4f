// Package safely turns faults of the code (panics) into errors, so that what is
// wrong with one request or one deployment ends that one only.
package safely

import (
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
)

// Fault is a panic.
type Fault struct {
	Found any
	Stack []byte // of the goroutine that panicked
}

// Error names the fault; the stack is for the log.
func (f *Fault) Error() string { return fmt.Sprintf("the program has a fault: %v", f.Found) }

// LogValue has the stack as well.
func (f *Fault) LogValue() slog.Value {
	return slog.GroupValue(slog.String("fault", fmt.Sprint(f.Found)), slog.String("stack", string(f.Stack)))
}

// Do does something. Where that panics, it returns a *Fault.
func Do(do func() error) (err error) {
	defer func() {
		switch found := recover().(type) {
		case nil:
		case *Fault: // of a Group's
			err = found
		default:
			err = &Fault{found, debug.Stack()}
		}
	}()
	return do()
}

// Group waits for goroutines, and panics where one of them did: in the goroutine
// that waits, whose caller knows what to do.
type Group struct {
	wait  sync.WaitGroup
	once  sync.Once
	fault *Fault
}

// Go does something in a goroutine of its own.
func (g *Group) Go(do func()) {
	g.wait.Go(func() {
		err := Do(func() error { do(); return nil })
		if fault, is := err.(*Fault); is {
			g.once.Do(func() { g.fault = fault })
		}
	})
}

// Wait returns once all is done.
func (g *Group) Wait() {
	g.wait.Wait()
	if g.fault != nil {
		panic(g.fault)
	}
}
