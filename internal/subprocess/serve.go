package subprocess

import (
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"
)

// serve answers requests until its asker is gone.
func serve(limits Limits, do func([]byte) []byte) {
	debug.SetMaxStack(mostStack)
	bound(limits.Memory)
	late := make(chan os.Signal, 1)
	signal.Notify(late, syscall.SIGXCPU)
	go func() {
		<-late
		os.Exit(1) // also where nobody is left to end it
	}()
	for {
		request, err := readFrame(os.Stdin)
		if err != nil {
			return
		}
		hurry(limits.Time)
		if err := writeFrame(os.Stdout, do(request)); err != nil {
			return
		}
		if len(request) > keepBelow {
			debug.FreeOSMemory()
		}
	}
}

// mostStack bounds recursion in Go, in bytes; that in C has the system's limit.
const mostStack = 64 << 20

// keepBelow is the size of a request, in bytes, whose memory is not given back at once.
const keepBelow = 64 << 10

// bound limits what the process may take beyond what it has, in bytes. Go's own
// memory is bounded first, so that it is collected before the limit is met.
func bound(memory uint64) {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return
	}
	var size, resident, shared, code, library, data uint64 // pages; see proc(5)
	if _, err := fmt.Sscan(string(text), &size, &resident, &shared, &code, &library, &data); err != nil {
		return
	}
	debug.SetMemoryLimit(int64(memory / 2))
	most := data*uint64(os.Getpagesize()) + memory
	_ = syscall.Setrlimit(syscall.RLIMIT_DATA, &syscall.Rlimit{Cur: most, Max: most}) // it only bounds
}

// hurry lets the process end if the next request takes more than so much time of
// the processor: the one that asked may not be there any more to end it.
func hurry(most time.Duration) {
	var used syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &used) != nil {
		return
	}
	seconds := uint64(used.Utime.Sec+used.Stime.Sec) + uint64(2*most/time.Second) + 2
	_ = syscall.Setrlimit(syscall.RLIMIT_CPU, &syscall.Rlimit{Cur: seconds, Max: ^uint64(0)}) // it only bounds
}
