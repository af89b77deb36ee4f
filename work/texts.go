package work

import (
	"context"

	"vorrang/core/step"
	"vorrang/internal/safely"
)

// texts gives the normal text under a checksum.
type texts = func(context.Context, step.Checksum) ([]byte, error)

// readFirst begins to read the first of the texts that are going to be asked for, which may be
// large, while the gate is still asked. Whoever asks for it waits until it is there. end ends the
// reading if nobody asked, and waits for it; it has to be called.
func readFirst(ctx context.Context, order []step.Checksum, read texts) (ahead texts, end func()) {
	if len(order) == 0 {
		return read, func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	var text []byte
	var failed error
	done := make(chan struct{})
	go func() {
		defer close(done)
		failed = safely.Do(func() (err error) { text, err = read(ctx, order[0]); return err })
	}()
	asked := false
	ahead = func(ctx context.Context, checksum step.Checksum) ([]byte, error) {
		<-done
		if asked || checksum != order[0] {
			return read(ctx, checksum)
		}
		asked = true
		first := text
		text = nil // nobody needs it twice
		return first, failed
	}
	return ahead, func() { cancel(); <-done }
}
