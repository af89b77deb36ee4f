package service

import "time"

// PutFault lets the events' clock of a service panic: from its nth reading on, once.
func (s *Service) PutFault(nth int) {
	s.deploying.eventClock = func() time.Time {
		if nth--; nth == 0 {
			panic("a fault of the tests")
		}
		return time.Now()
	}
}
