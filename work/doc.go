// Package work holds what runs by itself, without anybody who waits for it: the
// deployments that are under way, and the rounds for what is due at its time.
package work
