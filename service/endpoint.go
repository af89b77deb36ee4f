package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"vorrang/core/access"
	"vorrang/core/step"
	"vorrang/service/api"
)

// endpoint is one route with what its OpenAPI operation says.
type endpoint struct {
	method, path string // {name} stands for a parameter
	id, summary  string

	in, out any    // pointers to the handler's types
	takes   string // media type of a body that is no JSON
	gives   string // media type of an answer that is no JSON
	reads   bool   // it changes nothing, though its method could
	leaves  bool   // it ends where its caller is gone, though its method is not GET
	uploads bool   // its body may be large, and is read by the handler
	streams bool   // answers with an event stream too
	need    access.Need
	open    bool // answers without sign-in
	self    bool // anybody who is signed in, about themselves
	proof   bool // takes a fresh sign-in, or the caller's password
	status  int  // of an answer that is no error

	handle fiber.Handler
}

// call is what a handler knows of a request beside its input.
type call struct {
	context.Context
	fiber fiber.Ctx
	who   caller
	actor string // the caller's name

	scheduled int64      // the scheduled promotion that is begun; 0 for none
	part      *fleetPart // of the deployment to a fleet that begins this; nil for none
}

// status sets the answer's, where there is a request to answer.
func (c call) status(code int) {
	if c.fiber != nil {
		c.fiber.Status(code)
	}
}

// on makes an endpoint of a typed handler. In's fields are taken from the path
// (tag path), the query (tag query) and the JSON body (tag json).
func on[In, Out any](
	need access.Need, method, path, id, summary string, handle func(call, *In) (*Out, error),
) endpoint {
	e := endpoint{
		need:    need,
		method:  method,
		path:    path,
		id:      id,
		summary: summary,
		in:      new(In),
		out:     new(Out),
		status:  http.StatusOK,
	}
	e.handle = func(c fiber.Ctx) error {
		in := new(In)
		if err := bind(c, in); err != nil {
			return err
		}
		noteAsked(c, in)
		who := callerOf(c)
		out, err := handle(call{Context: c.Context(), fiber: c, who: who, actor: who.Name}, in)
		if err != nil || out == nil {
			return err
		}
		body, err := json.Marshal(out)
		if err != nil {
			return fmt.Errorf("write the answer: %w", err)
		}
		c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSON)
		return c.Send(body)
	}
	return e
}

// needs says in words who may.
func (e endpoint) needs() string {
	switch {
	case e.open:
		return "nothing"
	case e.self:
		return "somebody who is signed in"
	}
	return e.need.String()
}

// fiberPath writes {name} as the router wants it.
func (e endpoint) fiberPath() string {
	return strings.NewReplacer("{", ":", "}", "").Replace(e.path)
}

// describe writes the OpenAPI document of the endpoints.
func describe(endpoints []endpoint, version string) ([]byte, error) {
	reflector := openapi31.NewReflector()
	reflector.Spec.Info.WithTitle("Vorrang").WithVersion(version).WithDescription(
		"Brings ordered SQL migration scripts from development through staging to production. " +
			"Errors are problem+json (RFC 9457).")
	reflector.DefaultOptions = append(
		reflector.DefaultOptions, jsonschema.InterceptDefName(schemaName), jsonschema.InterceptProp(requireProperty),
	)
	reflector.Spec.SetHTTPBearerTokenSecurity(
		"token", "",
		"A person's or a machine's token, or the administrator's. A session cookie does as well.",
	)
	for _, e := range endpoints {
		operation, err := reflector.NewOperationContext(e.method, e.path)
		if err != nil {
			return nil, fmt.Errorf("describe %s %s: %w", e.method, e.path, err)
		}
		e.describe(operation)
		if err := reflector.AddOperation(operation); err != nil {
			return nil, fmt.Errorf("describe %s %s: %w", e.method, e.path, err)
		}
	}
	return json.MarshalIndent(reflector.Spec, "", "  ")
}

// schemaName is a type's own name; the two kinds of problem have one each.
func schemaName(t reflect.Type, _ string) string {
	if t == reflect.TypeFor[step.Problem]() {
		return "FileProblem"
	}
	return sentenceCase(t.Name())
}

func sentenceCase(name string) string { return strings.ToUpper(name[:1]) + name[1:] }

// requireProperty marks what an answer always holds.
func requireProperty(params jsonschema.InterceptPropParams) error {
	tag := params.Field.Tag.Get("json")
	if params.Processed && tag != "" && !strings.Contains(tag, ",omitempty") && !strings.Contains(tag, ",omitzero") &&
		!slices.Contains(params.ParentSchema.Required, params.Name) {
		params.ParentSchema.Required = append(params.ParentSchema.Required, params.Name)
	}
	return nil
}

func (e endpoint) describe(operation openapi.OperationContext) {
	operation.SetID(e.id)
	operation.SetSummary(e.summary)
	needs := "Needs: " + e.needs() + "."
	if e.proof {
		needs += " A person who signed in more than 10 minutes ago, or asks with a token, sends " +
			"the header " + passwordHeader + " with their own password, percent-encoded."
	}
	operation.SetDescription(needs)
	if !e.open {
		operation.AddSecurity("token")
	}
	operation.AddReqStructure(e.in)
	if e.takes != "" {
		operation.AddReqStructure("", openapi.WithContentType(e.takes))
	}
	if e.gives != "" {
		operation.AddRespStructure("", openapi.WithHTTPStatus(e.status), openapi.WithContentType(e.gives))
	} else {
		operation.AddRespStructure(e.out, openapi.WithHTTPStatus(e.status))
	}
	if e.streams {
		operation.AddRespStructure("", openapi.WithHTTPStatus(e.status), openapi.WithContentType("text/event-stream"))
	}
	operation.AddRespStructure(new(api.Problem), func(unit *openapi.ContentUnit) {
		unit.IsDefault = true
		unit.ContentType = "application/problem+json"
	})
}
