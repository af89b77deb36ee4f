package main

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"
)

// certificate is that of the files, as they are now: whoever renews them need not
// start the service again.
type certificate struct {
	names [2]string // of the certificate and its key

	mu     sync.Mutex
	read   *tls.Certificate
	stamps [2]time.Time
}

// get gives the certificate. Where the files are being replaced and do not fit each
// other, it is the one of before.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var stamps [2]time.Time
	for i, name := range c.names {
		info, err := os.Stat(name)
		if err != nil && c.read == nil {
			return nil, fmt.Errorf("the certificate: %w", err)
		}
		if err == nil {
			stamps[i] = info.ModTime()
		}
	}
	if c.read != nil && stamps == c.stamps {
		return c.read, nil
	}
	pair, err := tls.LoadX509KeyPair(c.names[0], c.names[1])
	if err == nil {
		c.read, c.stamps = &pair, stamps
	}
	if c.read == nil {
		return nil, fmt.Errorf("the certificate: %w", err)
	}
	return c.read, nil
}
