package service

import (
	"fmt"
	"sync"

	"vorrang/records"
)

// news wakes those who wait for what other services tell of.
type news struct {
	mu      sync.Mutex
	waiting map[string]chan struct{}
	closed  bool
}

func newNews() *news { return &news{waiting: map[string]chan struct{}{}} }

func topic(kind string, id int64) string { return fmt.Sprintf("%s %d", kind, id) }

// heard is closed with the next news of a topic, and once nobody is to wait any more.
func (n *news) heard(topic string) <-chan struct{} {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.waiting[topic] == nil {
		n.waiting[topic] = make(chan struct{})
		if n.closed {
			close(n.waiting[topic])
		}
	}
	return n.waiting[topic]
}

// tell wakes who waits for what the news are about; for all, where something may have been
// missed.
func (n *news) tell(of records.News) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.closed {
		return
	}
	for topicOf, waits := range n.waiting {
		if of.Kind == "" || topicOf == topic(of.Kind, of.ID) {
			close(waits)
			delete(n.waiting, topicOf)
		}
	}
}

// close wakes everybody, for good; over reports that.
func (n *news) close() {
	n.tell(records.News{})
	n.mu.Lock()
	defer n.mu.Unlock()
	n.closed = true
}

func (n *news) over() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.closed
}
