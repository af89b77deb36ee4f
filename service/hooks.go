package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vorrang/core/access"
	"vorrang/core/lane"
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

// Sign is what stands in the header Vorrang-Signature: the HMAC-SHA-256, in
// hexadecimal, of the header Vorrang-Sent-At, a line feed and the body.
func Sign(secret, sentAt string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	_, _ = fmt.Fprintf(mac, "%s\n", sentAt)
	_, _ = mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// tell keeps an event for the hooks. An event that cannot be kept is logged: what
// it tells of has happened already.
func (s *Service) tell(ctx context.Context, h api.HookEvent) {
	event := api.CloudEvent{SpecVersion: "1.0", ID: newSecret("")[:22], Source: "/vorrang/lanes/" + url.PathEscape(h.Lane), Type: h.Type,
		Subject: h.Environment, Time: time.Now().UTC(), ContentType: "application/json", Data: h}
	body, err := json.Marshal(event)
	if err == nil {
		var wanted int64
		wanted, err = s.Records.AddDeliveries(ctx, h.Lane, h.Type[strings.LastIndexByte(h.Type, '.')+1:], h.Type, event.ID, string(body))
		if wanted > 0 {
			s.dispatcher.wake()
		}
	}
	if err != nil {
		s.Log.Warn("hooks were not told", "event", h.Type, "lane", h.Lane, "error", err)
	}
}

// tellOf tells of a deployment.
func (s *Service) tellOf(d records.Deployment, kind, message string) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	s.tell(ctx, api.HookEvent{Type: kind, Lane: d.Lane, Environment: d.Environment, Release: d.Release, Deployment: d.ID,
		Direction: string(d.Direction), Actor: d.Actor, Message: message})
}

// dispatcher delivers what waits.
type dispatcher struct {
	*scheduler
	service *Service
	client  *http.Client
}

func newDispatcher(s *Service) *dispatcher {
	dialer := net.Dialer{Timeout: hookPatience, Control: s.mayHook}
	p := &dispatcher{service: s, client: &http.Client{Timeout: hookPatience,
		Transport:     &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: hookPatience, IdleConnTimeout: time.Minute, MaxIdleConns: 20},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	p.scheduler = newScheduler("webhooks", s.Log, func(ctx context.Context) (time.Time, bool, error) { return s.Records.NextDelivery(ctx) }, p.round)
	return p
}

// errNoHook says that a hook's address is none that it may lead to.
var errNoHook = errors.New("its address is the service's own machine, or of a kind that no hook may lead to")

// mayHook refuses connections of hooks to this machine, to what hands out its
// secrets (link-local addresses), and to nobody, unless they are allowed by name.
// It sees the address that a name led to.
func (s *Service) mayHook(_, address string, _ syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	switch {
	case err != nil || ip == nil:
		return errNoHook
	case slices.ContainsFunc(s.HookNetworks, func(n net.IPNet) bool { return n.Contains(ip) }):
		return nil
	case ip.IsLoopback(), ip.IsLinkLocalUnicast(), ip.IsLinkLocalMulticast(), ip.IsMulticast(), ip.IsUnspecified():
		return errNoHook
	}
	return nil
}

// round makes one try of everything that is due. Hooks do not wait for each
// other.
func (p *dispatcher) round(ctx context.Context) error {
	const most = 50
	due, err := p.service.Records.DueDeliveries(ctx, most)
	if err != nil {
		return err
	}
	list, err := p.service.Records.Hooks(ctx)
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
				errs <- p.service.Records.RecordAttempt(ctx, p.try(ctx, hooks[name], d))
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
func (p *dispatcher) try(ctx context.Context, h records.Hook, d records.Delivery) records.Delivery {
	d.Tries++
	var err error
	d.Status, err = p.send(ctx, h, d)
	switch {
	case err == nil && d.Status >= 200 && d.Status < 300:
		d.State, d.Says = "delivered", ""
		return d
	case err == nil:
		d.Says = fmt.Sprintf("it answered %d %s", d.Status, http.StatusText(d.Status))
	default:
		d.Says = err.Error()
	}
	d.NextAt = time.Now().Add(hookPause << (d.Tries - 1))
	if d.Tries >= hookTries {
		d.State = "given up"
	}
	return d
}

// send posts an event. Its errors never name the URL, which may hold a secret.
func (p *dispatcher) send(ctx context.Context, h records.Hook, d records.Delivery) (int, error) {
	address, err := p.service.reference(h.URL)
	if err != nil {
		return 0, err
	}
	secret, err := p.service.reference(h.Secret)
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

// reference is what env:NAME or file:PATH stands for, or a plain text itself.
func (s *Service) reference(text string) (string, error) {
	if !lane.IsReference(text) {
		return text, nil
	}
	value, err := s.resolve(text)
	if err != nil {
		return "", fmt.Errorf("%s cannot be read by the service", text)
	}
	return value, nil
}

func (s *Service) hooks(c call, _ *nothing) (*api.Hooks, error) {
	list, err := s.Records.Hooks(c)
	answer := &api.Hooks{Hooks: []api.Hook{}}
	for _, h := range list {
		answer.Hooks = append(answer.Hooks, api.Hook(h))
	}
	return answer, err
}

type hookIn struct {
	Hook   string   `path:"hook"`
	URL    string   `json:"url" required:"true" secret:"true" description:"Or a reference to it: env:NAME or file:PATH."`
	Secret string   `json:"secret" required:"true" secret:"true" description:"Where the service finds the secret that signs: env:NAME or file:PATH."`
	Events []string `json:"events" required:"true" description:"held, approved, started, failed, done."`
	Lane   string   `json:"lane,omitempty" description:"Only of this lane."`
}

// putHook keeps a hook, new or changed. Its secret is kept as a reference only.
func (s *Service) putHook(c call, in *hookIn) (*api.Hook, error) {
	if err := access.CheckName(in.Hook); err != nil {
		return nil, badRequest("", "hook: %s", err)
	}
	if !lane.IsReference(in.Secret) {
		return nil, badRequest("", "secret: no secret is kept here; write env:NAME or file:PATH, and put it there for the service")
	}
	if !lane.IsReference(in.URL) {
		address, err := url.Parse(in.URL)
		if err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https" {
			return nil, badRequest("", "url: it is an address such as https://…, or env:NAME or file:PATH")
		}
		if address.User != nil || address.RawQuery != "" {
			return nil, badRequest("", "url: it holds a password or a query; put such an address where env:NAME or file:PATH finds it")
		}
	}
	for _, event := range in.Events {
		if !slices.Contains(api.HookEvents, event) {
			return nil, badRequest("", "events: %q is none; they are held, approved, started, failed, done", event)
		}
	}
	if len(in.Events) == 0 {
		return nil, badRequest("", "events: say of what it is told: held, approved, started, failed, done")
	}
	if in.Lane != "" {
		if _, err := s.lane(c, in.Lane); err != nil {
			return nil, err
		}
	}
	h := records.Hook{Name: in.Hook, URL: in.URL, Secret: in.Secret, Events: slices.Sorted(slices.Values(in.Events)), Lane: in.Lane, MadeBy: c.actor, MadeAt: time.Now().UTC()}
	shown := api.Hook(h)
	return &shown, s.Records.PutHook(c, h)
}

type oneHookIn struct {
	Hook string `path:"hook"`
}

func (s *Service) removeHook(c call, in *oneHookIn) (*nothing, error) {
	was, err := s.Records.RemoveHook(c, in.Hook)
	if err == nil && !was {
		err = notFound("hook", in.Hook, "vorrang hooks lists them")
	}
	return &nothing{}, err
}

type deliveriesIn struct {
	Hook  string `query:"hook"`
	Limit int    `query:"limit" default:"50" maximum:"500"`
}

func (s *Service) deliveries(c call, in *deliveriesIn) (*api.Deliveries, error) {
	list, err := s.Records.Deliveries(c, in.Hook, min(cmp.Or(max(in.Limit, 0), 50), 500))
	answer := &api.Deliveries{Deliveries: []api.Delivery{}}
	for _, d := range list {
		shown := api.Delivery{ID: d.ID, Hook: d.Hook, Type: d.Type, Event: d.Event, MadeAt: d.MadeAt, State: d.State, Tries: d.Tries,
			Status: d.Status, Says: strings.TrimSpace(d.Says), EndedAt: d.EndedAt}
		if d.State == "waiting" {
			shown.NextAt = &d.NextAt
		}
		answer.Deliveries = append(answer.Deliveries, shown)
	}
	return answer, err
}
