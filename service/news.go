package service

import (
	"fmt"
	"sync"

	"vorrang/records"
)

// news wakes those who follow what other services tell of.
type news struct {
	mu      sync.Mutex
	follows map[string]map[chan struct{}]bool // by topic
	closed  bool
}

func newNews() *news { return &news{follows: map[string]map[chan struct{}]bool{}} }

func topic(kind string, id int64) string { return fmt.Sprintf("%s %d", kind, id) }

// follow gives a channel that has something in it whenever there are news of a topic since it
// was read last, and once nobody is to follow any more. leave ends it.
func (n *news) follow(topic string) (heard <-chan struct{}, leave func()) {
	n.mu.Lock()
	defer n.mu.Unlock()
	mine := make(chan struct{}, 1)
	if n.follows[topic] == nil {
		n.follows[topic] = map[chan struct{}]bool{}
	}
	n.follows[topic][mine] = true
	return mine, func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		if delete(n.follows[topic], mine); len(n.follows[topic]) == 0 {
			delete(n.follows, topic)
		}
	}
}

// tell wakes who follows what the news are about; everybody, where something may have been
// missed.
func (n *news) tell(of records.News) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for name, all := range n.follows {
		if of.Kind != "" && name != topic(of.Kind, of.ID) {
			continue
		}
		for one := range all {
			select {
			case one <- struct{}{}:
			default: // it is to look already
			}
		}
	}
}

// close wakes everybody, for good; over reports that.
func (n *news) close() {
	n.mu.Lock()
	n.closed = true
	n.mu.Unlock()
	n.tell(records.News{})
}

func (n *news) over() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.closed
}
