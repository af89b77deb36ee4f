// Package wiretap stands between a program and PostgreSQL in a test, reads what
// they say to each other, and strikes at a chosen word: before the server hears
// it, or after the server has answered and before the program hears that.
package wiretap

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// When says on which side of a statement a tap strikes.
type When string

const (
	Before When = "before" // the server has not heard the statement
	After  When = "after"  // the server has answered, and nobody has heard it
)

// Strike is where to strike, once.
type Strike struct {
	When When
	Text string       // that the statement contains
	Nth  int          // time that such a statement comes by, from 1
	Do   func(t *Tap) // runs while both sides wait
}

// Tap is a listener on loopback that passes everything on to a server.
type Tap struct {
	URL    string // of the same database, by way of the tap
	server string

	listener net.Listener
	mu       sync.Mutex
	strike   *Strike
	hear     func(sql string)
	seen     int
	links    map[net.Conn]bool
	struck   chan struct{}
	severed  bool
}

// Open taps the way to a database until the test's end.
func Open(t testing.TB, database string) *Tap {
	t.Helper()
	address, err := url.Parse(database)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	tap := &Tap{server: address.Host, listener: listener, links: map[net.Conn]bool{}}
	address.Host = listener.Addr().String()
	address.RawQuery = "sslmode=disable"
	tap.URL = address.String()
	t.Cleanup(func() {
		_ = listener.Close()
		tap.Cut()
	})
	go tap.accept()
	return tap
}

// Arm sets the next strike. The channel is closed once it was run.
func (t *Tap) Arm(s Strike) <-chan struct{} {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.strike, t.seen, t.struck = &s, 0, make(chan struct{})
	return t.struck
}

// Hear lets a function hear each simple query on its way to the server.
func (t *Tap) Hear(hear func(sql string)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.hear = hear
}

// Cut ends all connections.
func (t *Tap) Cut() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for link := range t.links {
		_ = link.Close()
	}
}

// Sever ends all connections, and lets none through until restored.
func (t *Tap) Sever() (restore func()) {
	set := func(severed bool) {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.severed = severed
	}
	set(true)
	t.Cut()
	return func() { set(false) }
}

func (t *Tap) accept() {
	for {
		client, err := t.listener.Accept()
		if err != nil {
			return
		}
		go t.pass(client)
	}
}

// link is one connection on both sides.
type link struct {
	tap            *Tap
	client, server net.Conn
	pending        chan *Strike // to run when the server has answered
}

func (t *Tap) pass(client net.Conn) {
	server, err := net.Dial("tcp", t.server)
	if err != nil {
		_ = client.Close()
		return
	}
	l := &link{tap: t, client: client, server: server, pending: make(chan *Strike, 1)}
	t.mu.Lock()
	severed := t.severed
	t.links[client], t.links[server] = true, true
	t.mu.Unlock()
	if severed {
		l.end(nil)
	}
	var both sync.WaitGroup
	both.Go(func() { l.end(l.forth()) })
	both.Go(func() { l.end(l.back()) })
	both.Wait()
	t.mu.Lock()
	delete(t.links, client)
	delete(t.links, server)
	t.mu.Unlock()
}

// end closes both sides: half a connection is of no use.
func (l *link) end(error) {
	_ = l.client.Close()
	_ = l.server.Close()
}

// forth passes on what the program says. The first message has no type.
func (l *link) forth() error {
	var head [4]byte
	if _, err := io.ReadFull(l.client, head[:]); err != nil {
		return err
	}
	first := make([]byte, binary.BigEndian.Uint32(head[:])-4)
	if _, err := io.ReadFull(l.client, first); err != nil {
		return err
	}
	if _, err := l.server.Write(append(head[:], first...)); err != nil {
		return err
	}
	return messages(l.client, func(kind byte, message []byte) error {
		strike := l.tap.match(kind, message)
		if strike != nil && strike.When == Before {
			l.tap.hit(strike)
		}
		if strike != nil && strike.When == After {
			l.pending <- strike
		}
		_, err := l.server.Write(message)
		return err
	})
}

// back passes on what the server says. Its answer ends with ReadyForQuery.
func (l *link) back() error {
	return messages(l.server, func(kind byte, message []byte) error {
		if kind == 'Z' {
			select {
			case strike := <-l.pending:
				l.tap.hit(strike)
			default:
			}
		}
		_, err := l.client.Write(message)
		return err
	})
}

// messages reads typed messages: a type, a length that counts itself, a body.
func messages(from io.Reader, each func(kind byte, message []byte) error) error {
	for {
		var head [5]byte
		if _, err := io.ReadFull(from, head[:]); err != nil {
			return err
		}
		size := binary.BigEndian.Uint32(head[1:])
		if size < 4 || size > 1<<30 {
			return errors.New("no message of PostgreSQL")
		}
		message := make([]byte, 1+size)
		copy(message, head[:])
		if _, err := io.ReadFull(from, message[5:]); err != nil {
			return err
		}
		if err := each(head[0], message); err != nil {
			return err
		}
	}
}

// match takes the strike if a statement is the one that it waits for: in a simple query, or in the
// Parse message of the extended protocol.
func (t *Tap) match(kind byte, message []byte) *Strike {
	t.mu.Lock()
	defer t.mu.Unlock()
	if kind == 'Q' && t.hear != nil {
		t.hear(string(message[5 : len(message)-1]))
	}
	if kind != 'Q' && kind != 'P' || t.strike == nil || !strings.Contains(string(message[5:]), t.strike.Text) {
		return nil
	}
	if t.seen++; t.seen < t.strike.Nth {
		return nil
	}
	strike := t.strike
	t.strike = nil
	return strike
}

func (t *Tap) hit(s *Strike) {
	s.Do(t)
	close(t.struck)
}
