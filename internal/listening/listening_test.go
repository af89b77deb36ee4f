package listening

import (
	"io"
	"net"
	"net/netip"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answering accepts connections until the test's end, writes one byte to each, and gives the
// accepted ones.
func answering(t *testing.T, listener net.Listener) <-chan net.Conn {
	accepted := make(chan net.Conn, 100)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Write([]byte{1})
			accepted <- conn
		}
	}()
	return accepted
}

// answered reports whether a connection was accepted, or closed at once.
func answered(t *testing.T, conn net.Conn) bool {
	n, err := conn.Read(make([]byte, 1))
	if n == 0 {
		require.ErrorIs(t, err, io.EOF)
	}
	return n == 1
}

func TestConnectionsAreBounded(t *testing.T) {
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	proxy := netip.MustParseAddr("127.0.0.9")
	accepted := answering(t, Bound(at, Limits{All: 5, One: 2}, func(a netip.Addr) bool { return a == proxy }))
	dial := func(from string) net.Conn {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		conn, err := dialer.DialContext(t.Context(), "tcp", at.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		return conn
	}
	require.True(t, answered(t, dial("127.0.0.1")))
	first := <-accepted
	require.True(t, answered(t, dial("127.0.0.1")))
	assert.False(t, answered(t, dial("127.0.0.1")), "two from one address")
	require.NoError(t, first.Close())
	_ = first.Close() // counts once
	assert.True(t, answered(t, dial("127.0.0.1")), "one has left")
	for range 3 {
		assert.True(t, answered(t, dial("127.0.0.9")), "a proxy has those of many")
	}
	assert.False(t, answered(t, dial("127.0.0.2")), "five in all")
}

// flaky is a listener whose process is out of files for a while.
type flaky struct {
	net.Listener
	fails int
}

func (f *flaky) Accept() (net.Conn, error) {
	if f.fails > 0 {
		f.fails--
		return nil, &net.OpError{Op: "accept", Net: "tcp", Err: syscall.EMFILE}
	}
	return f.Listener.Accept()
}

func TestAcceptGoesOnWhenFilesRunOut(t *testing.T) {
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	answering(t, Bound(&flaky{at, 3}, Limits{All: 5, One: 5}, nil))
	conn, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", at.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	assert.True(t, answered(t, conn))
}

func TestAHostOfIPv6IsItsNetwork(t *testing.T) {
	assert.Equal(t, Network(netip.MustParseAddr("2001:db8::1")), Network(netip.MustParseAddr("2001:db8::ffff:1")))
	assert.NotEqual(t, Network(netip.MustParseAddr("2001:db8::1")), Network(netip.MustParseAddr("2001:db8:0:1::1")))
	assert.Equal(t, netip.MustParseAddr("192.0.2.7"), Network(netip.MustParseAddr("::ffff:192.0.2.7")))
	usual := Usual()
	assert.Greater(t, usual.All, usual.One)
	assert.LessOrEqual(t, usual.All, 10_000)
}
