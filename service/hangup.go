package service

import (
	"context"
	"net"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/sys/unix"
)

// hearEvery is how often a request that only reads looks whether its caller is still there.
const hearEvery = 300 * time.Millisecond

// attended ends a request that changes nothing once its caller is gone: a long query on a target is
// for nobody then.
func attended(c fiber.Ctx) error {
	ctx, cancel := context.WithCancel(c.Context())
	defer cancel()
	c.SetContext(ctx)
	if conn := rawOf(c.RequestCtx().Conn()); conn != nil {
		defer time.AfterFunc(hearEvery, func() { // few requests take so long
			ticker := time.NewTicker(hearEvery)
			defer ticker.Stop()
			for !hungUp(conn) {
				select {
				case <-ticker.C:
				case <-ctx.Done():
					return
				}
			}
			cancel()
		}).Stop()
	}
	return c.Next()
}

// rawOf is the socket of a connection; nil where there is none.
func rawOf(conn net.Conn) syscall.RawConn {
	if secure, is := conn.(interface{ NetConn() net.Conn }); is {
		conn = secure.NetConn()
	}
	socket, is := conn.(syscall.Conn)
	if !is {
		return nil
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return nil
	}
	return raw
}

// hungUp reports whether the other side has closed a connection, or half of it, whatever it sent before.
//
// Source: poll(2), POLLRDHUP.
func hungUp(conn syscall.RawConn) (gone bool) {
	err := conn.Control(func(fd uintptr) {
		asked := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLRDHUP}}
		n, err := unix.Poll(asked, 0)
		gone = err == nil && n > 0 && asked[0].Revents&(unix.POLLRDHUP|unix.POLLHUP|unix.POLLERR) != 0
	})
	return gone || err != nil
}
