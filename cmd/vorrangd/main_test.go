package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/records"
)

// issue writes a certificate for 127.0.0.1 with a number, and its key.
func issue(t *testing.T, folder string, number int64, stamp time.Time) (certificate, key string) {
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(number),
		Subject:      pkix.Name{CommonName: "nordmole"},
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
	}
	signed, err := x509.CreateCertificate(rand.Reader, template, template, secret.Public(), secret)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(secret)
	require.NoError(t, err)
	certificate, key = filepath.Join(folder, "certificate.pem"), filepath.Join(folder, "key.pem")
	for name, block := range map[string]*pem.Block{certificate: {Type: "CERTIFICATE", Bytes: signed},
		key: {Type: "PRIVATE KEY", Bytes: private}} {
		require.NoError(t, os.WriteFile(name, pem.EncodeToMemory(block), 0o600))
		require.NoError(t, os.Chtimes(name, stamp, stamp))
	}
	return certificate, key
}

func TestACertificateIsReadAgainWhenItChanges(t *testing.T) {
	folder := t.TempDir()
	names := [2]string{}
	names[0], names[1] = issue(t, folder, 1, time.Unix(1000, 0))
	kept := &certificate{names: names}
	number := func() int64 {
		pair, err := kept.get(nil)
		require.NoError(t, err)
		parsed, err := x509.ParseCertificate(pair.Certificate[0])
		require.NoError(t, err)
		return parsed.SerialNumber.Int64()
	}
	assert.EqualValues(t, 1, number())
	issue(t, folder, 2, time.Unix(2000, 0))
	assert.EqualValues(t, 2, number())
	require.NoError(t, os.WriteFile(names[1], []byte("half a key"), 0o600))
	assert.EqualValues(t, 2, number(), "files that do not fit each other are being replaced")
	require.NoError(t, os.Remove(names[0]))
	assert.EqualValues(t, 2, number())
	_, err := (&certificate{names: names}).get(nil)
	assert.Error(t, err, "at the start they have to be there")
}

// TestAServiceSaysWhetherItIsReady also with a certificate that nobody else trusts, and to nobody in its place.
func TestAServiceSaysWhetherItIsReady(t *testing.T) {
	status := http.StatusOK
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(status)
		_, _ = fmt.Fprintln(w, "the answer to "+r.URL.Path)
	})
	folder, other := t.TempDir(), t.TempDir()
	certificateFile, key := issue(t, folder, 1, time.Unix(1000, 0))
	otherFile, otherKey := issue(t, other, 2, time.Unix(1000, 0))
	plain := httptest.NewServer(answer)
	defer plain.Close()
	pair, err := tls.LoadX509KeyPair(certificateFile, key)
	require.NoError(t, err)
	secret := httptest.NewUnstartedServer(answer)
	secret.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	secret.Config.ErrorLog = log.New(io.Discard, "", 0)
	secret.StartTLS()
	defer secret.Close()
	asked := func(server *httptest.Server, args ...string) error {
		return run(append([]string{"-ready", "-listen", server.Listener.Addr().String()}, args...))
	}
	require.NoError(t, asked(plain))
	require.NoError(t, asked(secret, "-tls-certificate", certificateFile, "-tls-key", key))
	require.ErrorContains(t, asked(secret, "-tls-certificate", otherFile, "-tls-key", otherKey), "another certificate")
	require.ErrorContains(t, asked(secret), "is not ready")
	_, port, err := net.SplitHostPort(plain.Listener.Addr().String())
	require.NoError(t, err)
	require.NoError(t, run([]string{"-ready", "-listen", "0.0.0.0:" + port}), "that is this machine, too")
	status = http.StatusServiceUnavailable
	require.ErrorContains(t, asked(plain), "is not ready: the answer to /readyz (503)")
	plain.Close()
	require.ErrorContains(t, asked(plain), "connection refused")
}

func TestWhereItAnswersWithoutTLS(t *testing.T) {
	t.Setenv("VORRANG_RECORDS_URL", "postgres://127.0.0.1/x")
	for message, args := range map[string][]string{
		"answers beyond this machine":      {"-listen", "0.0.0.0:7340"},
		"passwords would pass unencrypted": {"-listen", ":7340"},
		"go together":                      {"-tls-certificate", "x"},
		"is not a network":                 {"-proxies", "10.0.0.1"},
		"-hook-networks":                   {"-hook-networks", "here"},
		"-references":                      {"-references", "HARBOUR_*"},
		"write a number of days":           {"-keep-details", "0"},
		"or ever":                          {"-keep-schemas", "1y"},
		"30 days at the least":             {"-keep-audit", "29", "-audit-files", "none"},
		"say where the audit is written":   {"-keep-audit", "365"},
		"-audit-files go together":         {"-audit-files", "/tmp"},
	} {
		_, err := parse(args)
		assert.ErrorContains(t, err, message, args)
	}
	s, err := parse([]string{"-keep-details", "30", "-keep-schemas", "ever"})
	require.NoError(t, err)
	assert.Equal(t, records.Retention{Details: 30 * day, Deliveries: 30 * day, Rehearsals: 180 * day}, s.keep)
	s, err = parse([]string{"-keep-audit", "365", "-audit-files", "none"})
	require.NoError(t, err)
	assert.Equal(t, 365*day, s.keep.Audit)
	assert.Empty(t, s.audits(), "it is written nowhere")
	for _, args := range [][]string{{}, {"-listen", "localhost:1"}, {"-listen", "[::1]:1"},
		{"-listen", "0.0.0.0:1", "-plain"},
		{"-listen", "0.0.0.0:1", "-tls-certificate", "x", "-tls-key", "y"}, {"-proxies", "10.0.0.0/8, 127.0.0.1/32"}} {
		_, err := parse(args)
		assert.NoError(t, err, args)
	}
}
