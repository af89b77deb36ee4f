package service

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/access"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

type askedKey struct{}

// noteAsked remembers what a call asks for, for the audit: the fields of its
// body that are set, without secrets.
func noteAsked(c fiber.Ctx, in any) {
	c.Locals(askedKey{}, asked(in))
}

func asked(in any) map[string]any {
	fields := map[string]any{}
	value := reflect.ValueOf(in).Elem()
	for i := range value.NumField() {
		field := value.Type().Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		name = cmp.Or(name, field.Tag.Get("path"), field.Tag.Get("query"))
		if name == "" || value.Field(i).IsZero() || slices.Contains([]string{"lane", "environment"}, name) {
			continue
		}
		if field.Tag.Get("secret") != "" {
			fields[name] = "(secret)"
			continue
		}
		fields[name] = value.Field(i).Interface()
	}
	return fields
}

// note adds to what the audit says of a call.
func (c call) note(key string, value any) {
	if c.fiber == nil {
		return
	}
	if fields, is := c.fiber.Locals(askedKey{}).(map[string]any); is {
		fields[key] = value
	}
}

func (s *book) act(c fiber.Ctx, operation string, who caller, scope access.Scope) access.AuditEntry {
	return access.AuditEntry{
		Actor:       who.Name,
		Via:         who.Via,
		Address:     s.addressOf(c),
		Operation:   operation,
		Lane:        scope.Lane,
		Environment: scope.Environment,
	}
}

// mayChangeKey marks a request that was let through to what may change something.
type mayChangeKey struct{}

func mayChange(c fiber.Ctx) bool { return c.Locals(mayChangeKey{}) != nil }

// audited lets a call run. One that changes something is kept before it runs,
// and its answer afterwards: nobody does anything that is not written down.
func (s *book) audited(c fiber.Ctx, e endpoint, who caller, scope access.Scope) error {
	if e.method == "" || e.method == fiber.MethodGet || e.reads {
		return c.Next()
	}
	id, err := s.Records.AddAct(c.Context(), s.act(c, e.id, who, scope))
	if err != nil {
		return err
	}
	c.Locals(mayChangeKey{}, true)
	err = c.Next()
	status, result := c.Response().StatusCode(), "done"
	if err != nil {
		problem := s.problem(err)
		status, result = problem.Status, problem.Detail
	}
	detail, bad := json.Marshal(c.Locals(askedKey{}))
	if bad != nil || string(detail) == "null" {
		detail = nil
	}
	s.answerAct(id, detail, status, oneLine(result))
	return err
}

// answerAct keeps what became of a call. The caller does not wait for records
// that are away.
func (s *book) answerAct(id int64, detail json.RawMessage, status int, result string) {
	keep := func(ctx context.Context) error { return s.Records.AnswerAct(ctx, id, detail, status, result) }
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if keep(ctx) == nil {
		return
	}
	const what = "what became of a call"
	s.running.Aside(what, func(context.Context) error { s.running.Insist(what, keep); return nil })
}

// mostResult bounds what is kept of an answer, in bytes.
const mostResult = 400

func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > mostResult {
		text = strings.ToValidUTF8(text[:mostResult], "") + "…"
	}
	return text
}

// auditDenied keeps that somebody was not let through.
func (s *book) auditDenied(c fiber.Ctx, e endpoint, who caller, scope access.Scope, denied error) {
	a := s.act(c, e.id, who, scope)
	a.Status, a.Result = fiber.StatusForbidden, oneLine(denied.Error())
	s.saveAudit(c.Context(), a)
}

// auditSignIn keeps who signed in, or tried to, and how many tries were refused
// before without a look.
func (s *book) auditSignIn(c call, name string, refused int, err error) {
	a := access.AuditEntry{
		Actor:     cleanActor(name, "administrator"),
		Via:       "a sign-in",
		Address:   s.addressOf(c.fiber),
		Operation: "signIn",
		Status:    fiber.StatusOK,
		Result:    "done",
	}
	if err != nil {
		problem := s.problem(err)
		a.Status, a.Result = problem.Status, oneLine(problem.Detail)
	}
	if refused > 0 {
		a.Result += fmt.Sprintf(
			" (%s refused before, since they came too early)",
			plural.Count(refused, "try was", "tries were"),
		)
	}
	s.saveAudit(c, a)
}

// auditOwn keeps what the service does by itself.
func (s *book) auditOwn(ctx context.Context, a access.AuditEntry) {
	a.Via, a.Address, a.Status = "vorrangd", "", fiber.StatusOK
	s.saveAudit(ctx, a)
}

func (s *book) saveAudit(ctx context.Context, a access.AuditEntry) {
	if _, err := s.Records.AddAct(ctx, a); err != nil {
		s.Log.Error("the audit could not be kept", "operation", a.Operation, "actor", a.Actor, "error", err)
	}
}

type auditIn struct {
	Actor       string `query:"actor"`
	Operation   string `query:"operation"`
	Lane        string `query:"lane"`
	Environment string `query:"environment"`
	Text        string `query:"text" description:"Somewhere in what was asked for, or in the result."`
	Since       string `query:"since" description:"RFC 3339."`
	Until       string `query:"until" description:"RFC 3339."`
	Before      int64  `query:"before" minimum:"0" description:"Only those before this one: next of the page before."`
	Limit       int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

const jsonLines = "application/x-ndjson"

// searchAudit answers with a page, or, where lines of JSON are accepted, with
// everything that fits.
func (s *book) searchAudit(c call, in *auditIn) (*api.Audit, error) {
	search := records.Search{
		Actor:       in.Actor,
		Operation:   in.Operation,
		Lane:        in.Lane,
		Environment: in.Environment,
		Text:        in.Text,
		Before:      in.Before,
	}
	for _, limit := range []struct {
		field, text string
		to          *time.Time
	}{{"since", in.Since, &search.Since}, {"until", in.Until, &search.Until}} {
		if limit.text == "" {
			continue
		}
		var err error
		if *limit.to, err = time.Parse(time.RFC3339, limit.text); err != nil {
			return nil, badRequest(
				nil,
				"%s: it is a time such as 2026-11-23T12:00:00Z, not %q",
				limit.field, limit.text,
			)
		}
	}
	if strings.Contains(c.fiber.Get(fiber.HeaderAccept), jsonLines) {
		return nil, s.exportAudit(c, search)
	}
	search.Limit = in.Limit + 1
	answer := &api.Audit{}
	acts, err := s.Records.Acts(c, search)
	acts, answer.Next = page(acts, in.Limit, func(a access.AuditEntry) int64 { return a.ID })
	answer.Acts = append([]access.AuditEntry{}, acts...)
	return answer, err
}

func (s *book) exportAudit(c call, search records.Search) error {
	const page = 1000
	search.Limit = page
	first, err := s.Records.Acts(c, search) // an error here is still an answer
	if err != nil {
		return err
	}
	c.fiber.Set(fiber.HeaderContentType, jsonLines)
	return c.fiber.SendStreamWriter(func(w *bufio.Writer) {
		for acts := first; len(acts) > 0; {
			lines := json.NewEncoder(w)
			for _, a := range acts {
				if lines.Encode(a) != nil {
					return
				}
			}
			if w.Flush() != nil || len(acts) < page {
				return
			}
			search.Before = acts[len(acts)-1].ID
			if acts, err = s.Records.Acts(s.running.Context(), search); err != nil {
				if !errors.Is(err, context.Canceled) {
					s.Log.Warn("the export of the audit broke off", "error", err)
				}
				return
			}
		}
	})
}
