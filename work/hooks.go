package work

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

// Webhooks: what happens is kept in the records first, and then sent, again and
// again with growing pauses until the other side took it.

const (
	hookTries    = 9                // in all, over about half an hour
	hookPause    = 4 * time.Second  // before the second try; each later one waits twice as long
	hookPatience = 10 * time.Second // for an answer

	signatureHeader = "Vorrang-Signature"
	momentHeader    = "Vorrang-Sent-At"
)

// Sign is what is in the header Vorrang-Signature: the HMAC-SHA-256, in
// hexadecimal, of the header Vorrang-Sent-At, a line feed and the body.
func Sign(secret, sentAt string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	_, _ = fmt.Fprintf(mac, "%s\n", sentAt)
	_, _ = mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// Tell keeps an event for the hooks. An event that cannot be kept is logged: what
// it tells of has happened already.
func (p *Hooks) Tell(ctx context.Context, h api.HookEvent) {
	event := api.CloudEvent{
		SpecVersion: "1.0",
		ID:          rand.Text(),
		Source:      "/vorrang/lanes/" + url.PathEscape(h.Lane),
		Type:        h.Type,
		Subject:     h.Environment,
		Time:        time.Now().UTC(),
		ContentType: "application/json",
		Data:        h,
	}
	body, err := json.Marshal(event)
	if err == nil {
		var wanted int64
		wanted, err = p.records.AddDeliveries(
			ctx, h.Lane, h.Type[strings.LastIndexByte(h.Type, '.')+1:], h.Type, event.ID, string(body),
		)
		if wanted > 0 {
			p.round.Wake()
		}
	}
	if err != nil {
		p.log.Warn("hooks were not told", "event", h.Type, "lane", h.Lane, "error", err)
	}
}

// TellOf tells of a deployment.
func (p *Hooks) TellOf(d records.Deployment, kind, message string) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	p.Tell(
		ctx,
		api.HookEvent{Type: kind, Lane: d.Lane, Environment: d.Environment, Release: d.Release, Deployment: d.ID,
			Direction: string(d.Direction), Actor: d.Actor, Message: message},
	)
}

// Hooks delivers what they are told.
type Hooks struct {
	records  *records.Records
	log      *slog.Logger
	resolve  func(text string) (string, error)
	networks []net.IPNet
	client   *http.Client
	round    *Round
}

// NewHooks has nothing to deliver until its round is gone. resolve gives what a
// reference stands for, or a plain text itself; networks may be called although they
// are this machine's or link-local.
func NewHooks(
	store *records.Records, log *slog.Logger, resolve func(string) (string, error), networks []net.IPNet,
) *Hooks {
	p := &Hooks{records: store, log: log, resolve: resolve, networks: networks}
	dialer := net.Dialer{Timeout: hookPatience, Control: p.may}
	p.client = &http.Client{Timeout: hookPatience,
		Transport: &http.Transport{
			DialContext:         dialer.DialContext,
			TLSHandshakeTimeout: hookPatience,
			IdleConnTimeout:     time.Minute,
			MaxIdleConns:        20,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	p.round = NewRound(
		"webhooks",
		func(ctx context.Context) (time.Time, bool, error) { return store.NextDelivery(ctx) },
		p.deliver,
	)
	return p
}

// Round delivers what is due.
func (p *Hooks) Round() *Round { return p.round }

// errNoHook says that a hook's address is none that it may lead to.
var errNoHook = errors.New("its address is the service's own machine, or of a kind that no hook may lead to")

// may refuses connections of hooks to this machine, to what hands out its
// secrets (link-local addresses), and to nobody, unless they are allowed by name.
// It sees the address that a name led to.
func (p *Hooks) may(_, address string, _ syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	switch {
	case err != nil || ip == nil:
		return errNoHook
	case slices.ContainsFunc(p.networks, func(n net.IPNet) bool { return n.Contains(ip) }):
		return nil
	case ip.IsLoopback(), ip.IsLinkLocalUnicast(), ip.IsLinkLocalMulticast(), ip.IsMulticast(), ip.IsUnspecified():
		return errNoHook
	}
	return nil
}

// deliver makes one try of everything that is due. Hooks do not wait for each
// other.
func (p *Hooks) deliver(ctx context.Context) error {
	const most = 50
	due, err := p.records.ClaimDeliveries(ctx, most)
	if err != nil {
		return err
	}
	list, err := p.records.Hooks(ctx, records.ListQuery{})
	if err != nil {
		return err
	}
	hooks := map[string]records.Hook{}
	for _, h := range list {
		hooks[h.Name] = h
	}
	byHook := map[string][]records.Delivery{}
	for _, d := range due {
		byHook[d.Hook] = append(byHook[d.Hook], d)
	}
	var wait safely.Group
	errs := make(chan error, len(due))
	for name, deliveries := range byHook {
		wait.Go(func() {
			for _, d := range deliveries {
				errs <- p.records.RecordAttempt(ctx, p.try(ctx, hooks[name], d))
			}
		})
	}
	wait.Wait()
	close(errs)
	for err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// try sends a delivery once.
func (p *Hooks) try(ctx context.Context, h records.Hook, d records.Delivery) records.Delivery {
	d.Tries++
	var err error
	d.Status, err = p.send(ctx, h, d)
	switch {
	case err == nil && d.Status >= 200 && d.Status < 300:
		d.State, d.Message = "delivered", ""
		return d
	case err == nil:
		d.Message = fmt.Sprintf("it answered %d %s", d.Status, http.StatusText(d.Status))
	default:
		d.Message = err.Error()
	}
	d.NextAt = time.Now().Add(hookPause << (d.Tries - 1))
	if d.Tries >= hookTries {
		d.State = "given up"
	}
	return d
}

// send posts an event. Its errors never name the URL, which may hold a secret.
func (p *Hooks) send(ctx context.Context, h records.Hook, d records.Delivery) (int, error) {
	address, err := p.resolve(h.URL)
	if err != nil {
		return 0, err
	}
	secret, err := p.resolve(h.Secret)
	if err != nil {
		return 0, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader([]byte(d.Body)))
	if err != nil {
		return 0, errors.New("its URL cannot be read")
	}
	sentAt := strconv.FormatInt(time.Now().Unix(), 10)
	req.Header.Set("Content-Type", "application/cloudevents+json")
	req.Header.Set(momentHeader, sentAt)
	req.Header.Set(signatureHeader, Sign(secret, sentAt, []byte(d.Body)))
	answer, err := p.client.Do(req)
	if err != nil {
		return 0, whyNoAnswer(err)
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10)) // so that the connection can be used again
	return answer.StatusCode, nil
}

// whyNoAnswer says why a hook did not answer, in words that hold nothing of its
// address.
func whyNoAnswer(err error) error {
	var dns *net.DNSError
	var timeout net.Error
	var certificate *tls.CertificateVerificationError
	switch {
	case errors.Is(err, errNoHook):
		return errNoHook
	case errors.As(err, &dns):
		return errors.New("there is no host of its name")
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("nobody listens at its address: connection refused")
	case errors.As(err, &certificate):
		return errors.New("its certificate is not accepted")
	case errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Errorf("it did not answer within %s", hookPatience)
	}
	return errors.New("it does not answer")
}
