package service

import (
	"context"
	"crypto/rand"
	"regexp"
	"strings"

	"github.com/gofiber/fiber/v3"
)

// requestKey is where a context has its request's number.
type requestKey struct{}

// goodRequestID is what a request may call itself, so that no line of the log is forged.
var goodRequestID = regexp.MustCompile(`^[0-9A-Za-z._-]{8,64}$`)

// number gives a request a number: the one that it brings, so that a pipeline or a proxy
// finds it again, or a new one. The answer has it, and so have the lines of the log about the
// request and about a deployment that it began, whose own number the ledger's rows have.
//
// Source: W3C Trace Context, https://www.w3.org/TR/trace-context/#traceparent-header
func number(c fiber.Ctx) error {
	id := c.Get(fiber.HeaderXRequestID)
	if parts := strings.Split(c.Get("traceparent"), "-"); id == "" && len(parts) == 4 {
		id = parts[1]
	}
	if !goodRequestID.MatchString(id) {
		id = strings.ToLower(rand.Text()[:16])
	}
	c.Set(fiber.HeaderXRequestID, id)
	ctx := context.WithValue(c.Context(), requestKey{}, id)
	if c.Method() == fiber.MethodGet {
		ctx = context.WithValue(ctx, readsKey{}, true)
	}
	c.SetContext(ctx)
	return c.Next()
}

// readsKey marks the context of a request that writes nothing.
type readsKey struct{}

// onlyReads reports whether a context is of a request that writes nothing.
func onlyReads(ctx context.Context) bool { return ctx.Value(readsKey{}) != nil }

// requestID is the number of the request that a context is of; empty for none.
func requestID(ctx context.Context) string {
	id, _ := ctx.Value(requestKey{}).(string)
	return id
}
