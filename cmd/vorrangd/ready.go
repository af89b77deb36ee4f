package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// readyPatience is how long a service that runs has to say that it is ready.
const readyPatience = 4 * time.Second

// ready asks the service that runs with the same settings on this machine whether its records can be reached. It takes
// the certificate of the settings for that service's own, whatever name it was issued for, and no other.
func ready(ctx context.Context, s settings) error {
	host, port, err := net.SplitHostPort(s.listen)
	if err != nil {
		return fmt.Errorf("-listen %s: %w", s.listen, err)
	}
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		host = "127.0.0.1"
		if ip != nil && ip.To4() == nil {
			host = "::1"
		}
	}
	transport := &http.Transport{DisableKeepAlives: true}
	scheme := "http"
	if s.certificate != "" {
		pair, err := (&certificate{names: [2]string{s.certificate, s.key}}).get(nil)
		if err != nil {
			return err
		}
		scheme = "https"
		transport.TLSClientConfig = &tls.Config{
			InsecureSkipVerify: true, // the certificate itself is compared
			VerifyPeerCertificate: func(shown [][]byte, _ [][]*x509.Certificate) error {
				if len(shown) == 0 || !bytes.Equal(shown[0], pair.Certificate[0]) {
					return errors.New("it answers with another certificate than that of -tls-certificate")
				}
				return nil
			},
		}
	}
	ctx, cancel := context.WithTimeout(ctx, readyPatience)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+net.JoinHostPort(host, port)+"/readyz", nil)
	if err != nil {
		return err
	}
	answer, err := transport.RoundTrip(request)
	if err != nil {
		return fmt.Errorf("the service at %s is not ready: %w", request.URL.Host, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, 200)) // what arrived is said
		return fmt.Errorf("the service at %s is not ready: %s (%d)",
			request.URL.Host, strings.TrimSpace(string(text)), answer.StatusCode)
	}
	return nil
}
