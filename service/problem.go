package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/engine"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

// answerError is the one place where errors become problem+json.
func (s *Config) answerError(c fiber.Ctx, err error) error {
	problem := s.problem(err)
	switch {
	case errors.Is(err, context.Canceled):
		s.Log.Info("a caller was gone before the answer", "method", c.Method(), "path", c.Path())
	case problem.Status >= http.StatusInternalServerError:
		s.Log.Error("a request failed", "method", c.Method(), "path", c.Path(), "error", err)
	}
	body, err := json.Marshal(problem)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/problem+json")
	return c.Status(problem.Status).Send(body)
}

func (s *Config) problem(err error) api.Problem {
	var reason *problemError
	var files step.Problems
	var unplanned *plan.Error
	var unreachable *engine.ConnectError
	var locked *engine.LockedError
	var lost *engine.LostError
	var server *engine.ServerError
	var framework *fiber.Error
	var fault *safely.Fault
	switch {
	case errors.As(err, &fault):
		return api.Problem{
			Type:     "urn:vorrang:internal",
			Title:    "The service has a fault",
			Status:   http.StatusInternalServerError,
			Detail:   "this request met a fault of the service; nothing more is known of it here",
			Remedies: by("the service's log has the place; report it"),
		}
	case errors.As(err, &reason):
		return reason.problem
	case errors.As(err, &files):
		return api.Problem{
			Type:   "urn:vorrang:invalid-files",
			Title:  "Files with errors",
			Status: http.StatusUnprocessableEntity,
			Detail: plural.Count(len(files), "problem was", "problems were") + " found; nothing was changed",
			Errors: files,
		}
	case errors.As(err, &unplanned):
		return api.Problem{
			Type:   "urn:vorrang:refused",
			Title:  "There is no such plan",
			Status: http.StatusConflict,
			Detail: unplanned.Reason,
		}
	case errors.As(err, &unreachable):
		return api.Problem{
			Type:     "urn:vorrang:unreachable",
			Title:    "The target cannot be used",
			Status:   http.StatusBadGateway,
			Detail:   unreachable.Message,
			Remedies: by("%s", unreachable.Fix),
		}
	case errors.As(err, &lost), errors.As(err, &server):
		return api.Problem{
			Type:     "urn:vorrang:unreachable",
			Title:    "The target refused, or went away",
			Status:   http.StatusBadGateway,
			Detail:   err.Error(),
			Remedies: see(remedy.LookAtTarget, "see whether the target can be used, and what to fix"),
		}
	case errors.As(err, &locked):
		return api.Problem{Type: "urn:vorrang:held", Title: "The target is busy", Status: http.StatusConflict,
			Detail: locked.Error(), Remedies: by("wait for it to end")}
	case errors.Is(err, records.ErrNotFound):
		return api.Problem{
			Type:   "urn:vorrang:not-found",
			Title:  "Not found",
			Status: http.StatusNotFound,
			Detail: err.Error(),
		}
	case errors.As(err, &framework): // whose own words may quote the request, headers and all
		return api.Problem{
			Type:   "urn:vorrang:invalid-request",
			Title:  http.StatusText(framework.Code),
			Status: framework.Code,
			Detail: "the request cannot be answered as it is: " + strings.ToLower(http.StatusText(framework.Code)),
		}
	case errors.Is(err, context.Canceled): // nobody reads this
		return api.Problem{Type: "urn:vorrang:unavailable", Title: "The caller is gone",
			Status: http.StatusServiceUnavailable, Detail: "what was asked for was read no further"}
	case errors.Is(err, context.DeadlineExceeded):
		return api.Problem{
			Type:     "urn:vorrang:unavailable",
			Title:    "It took too long",
			Status:   http.StatusServiceUnavailable,
			Detail:   "this could not be answered in time; whether it was done is not known",
			Remedies: by("see what stands, and try again in a moment"),
		}
	case records.Away(err):
		return api.Problem{
			Type:     "urn:vorrang:unavailable",
			Title:    "The records cannot be reached",
			Status:   http.StatusServiceUnavailable,
			Detail:   "this service does not reach its records now; a deployment that is under way goes on",
			Remedies: by("try again in a moment, or ask another service on the same records"),
		}
	}
	return api.Problem{
		Type:     "urn:vorrang:internal",
		Title:    "The service failed",
		Status:   http.StatusInternalServerError,
		Detail:   "the service could not do this; its log says why",
		Remedies: by("see the service's log; is its records database there?"),
	}
}
