// Package listening bounds the connections that a listener accepts, so that idle ones, which need no
// token, cannot take the files that a service needs for its own work. Accept goes on after an
// error of the moment, such as a process that is out of files.
package listening

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"
)

// Limits are how many connections may be open at once.
type Limits struct {
	All int // from everywhere
	One int // from one address, which is a /64 of IPv6: a host has that many
}

// reserved is how many of a process's files are kept for everything but connections that were
// accepted: targets, records, files, children.
const reserved = 512

// Usual are the limits by a process's limit of open files: connections have at most half of them,
// or all but the reserved ones.
//
// Source: getrlimit(2), RLIMIT_NOFILE.
func Usual() Limits {
	var files syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files); err != nil {
		files.Cur = 1024
	}
	const most, whole = 10_000, 1 << 20
	all := int(min(files.Cur, whole))
	all = min(max(all/2, all-reserved), most)
	return Limits{All: max(all, 16), One: max(all/4, 8)}
}

// Listener accepts so many connections at once. One beyond a limit is closed at once.
type Listener struct {
	net.Listener
	limits  Limits
	trusted func(netip.Addr) bool

	mu   sync.Mutex
	all  int
	from map[netip.Addr]int
}

// Bound bounds a listener. trusted are addresses for which only the limit of all counts, such as
// those of proxies; nil is none.
func Bound(listener net.Listener, limits Limits, trusted func(netip.Addr) bool) *Listener {
	return &Listener{Listener: listener, limits: limits, trusted: trusted, from: map[netip.Addr]int{}}
}

// Accept implements net.Listener. Its error is one after which nothing can be accepted.
func (l *Listener) Accept() (net.Conn, error) {
	const shortest, longest = 5 * time.Millisecond, time.Second
	for pause := shortest; ; {
		conn, err := l.Listener.Accept()
		var temporary interface{ Temporary() bool }
		switch {
		case err == nil:
		case errors.As(err, &temporary) && temporary.Temporary(): // out of files, or the peer is gone
			time.Sleep(pause)
			pause = min(2*pause, longest)
			continue
		default:
			return nil, err
		}
		pause = shortest
		if from, room := l.enter(conn); room {
			return &counted{Conn: conn, leave: sync.OnceFunc(func() { l.leave(from) })}, nil
		}
		_ = conn.Close() // there is nobody to tell
	}
}

// enter counts a connection if there is room for it.
func (l *Listener) enter(conn net.Conn) (from netip.Addr, room bool) {
	from = host(conn.RemoteAddr())
	l.mu.Lock()
	defer l.mu.Unlock()
	bounded := l.trusted == nil || !l.trusted(from)
	if l.all >= l.limits.All || bounded && l.from[from] >= l.limits.One {
		return from, false
	}
	l.all++
	l.from[from]++
	return from, true
}

func (l *Listener) leave(from netip.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all--
	if l.from[from]--; l.from[from] == 0 {
		delete(l.from, from)
	}
}

// host is what a limit counts by.
func host(address net.Addr) netip.Addr {
	at, err := netip.ParseAddrPort(address.String())
	if err != nil {
		return netip.Addr{}
	}
	return Network(at.Addr())
}

// Network is the address of a host, or of the network that one host has: a /64 of IPv6.
func Network(at netip.Addr) netip.Addr {
	const hosts = 64
	if at = at.Unmap(); at.Is6() {
		if network, err := at.WithZone("").Prefix(hosts); err == nil {
			return network.Addr()
		}
	}
	return at
}

type counted struct {
	net.Conn
	leave func()
}

// Close implements net.Conn.
func (c *counted) Close() error {
	c.leave()
	return c.Conn.Close()
}
