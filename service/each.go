package service

import "vorrang/internal/safely"

// each does something with every item, so many at a time, and returns when all
// is done.
func each[T any](items []T, most int, do func(int, T)) {
	var wait safely.Group
	room := make(chan struct{}, most)
	for i, item := range items {
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			do(i, item)
		})
	}
	wait.Wait()
}
