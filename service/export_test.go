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

// Follow gives what has something in it once the service has heard of news, and so of all that were told before.
func (s *Service) Follow(kind string, id int64) (heard <-chan struct{}, leave func()) {
	return s.deploying.news.follow(topic(kind, id))
}
