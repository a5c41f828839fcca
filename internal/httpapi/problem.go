package httpapi

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// Types of problem. They are stable; clients may act on them.
const (
	problemBadRequest = "/problems/bad-request"
	problemUnknown    = "/problems/unknown-symbol"
	problemAmbiguous  = "/problems/ambiguous-symbol"
	problemSymbol     = "/problems/not-a-symbol"
	problemField      = "/problems/unknown-field"
	problemFormula    = "/problems/formula"
	problemNumber     = "/problems/not-a-number"
	problemDuplicate  = "/problems/duplicate-row"
	problemNameTaken  = "/problems/name-taken"
	problemNotFound   = "/problems/not-found"
	problemChanged    = "/problems/changed-meanwhile"
	problemTooLarge   = "/problems/too-large"
	problemForbidden  = "/problems/forbidden"
	problemToken      = "/problems/token-needed"
	problemDatabase   = "/problems/database-away"
	problemInternal   = "/problems/internal"
)

func init() {
	huma.DefaultArrayNullable = false // an empty list is written as one
	// Huma's own complaints (validation, malformed JSON) take the same form.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := problem(status, problemBadRequest, "", message)
		for _, err := range errs {
			var detailed huma.ErrorDetailer
			if errors.As(err, &detailed) {
				d := detailed.ErrorDetail()
				p.Errors = append(p.Errors, wire.ProblemError{Message: d.Message, Location: d.Location, Value: d.Value})
				if p.Field == "" {
					p.Field = d.Location
				}
			} else if err != nil {
				p.Errors = append(p.Errors, wire.ProblemError{Message: err.Error()})
			}
		}
		if strings.HasPrefix(message, "validation failed") {
			p.Hint = "Correct what is listed and send it again; nothing was changed."
		}
		return p
	}
}

func problem(status int, kind, field, detail string, args ...any) *wire.Problem {
	if len(args) > 0 {
		detail = fmt.Sprintf(detail, args...)
	}
	return &wire.Problem{Type: kind, Title: http.StatusText(status), Status: status, Field: field, Detail: detail}
}

func hinted(p *wire.Problem, hint string) *wire.Problem {
	p.Hint = hint
	return p
}

// asProblem turns any error of the layers below into a problem for the caller.
func asProblem(err error, field string) *wire.Problem {
	var (
		ready     *wire.Problem
		unknown   *market.UnknownError
		ambiguous *market.AmbiguousError
		symbol    *market.SymbolError
		noField   *catalogue.UnknownFieldError
		syntax    *formula.SyntaxError
		taken     *store.NameTakenError
	)
	switch {
	case errors.As(err, &ready):
		return ready
	case errors.As(err, &unknown):
		p := problem(http.StatusUnprocessableEntity, problemUnknown, field, "%s", err)
		p.Candidates = listings(unknown.Near)
		return hinted(p, "Search for the name with 'soba lookup' or in the console's search box.")
	case errors.As(err, &ambiguous):
		p := problem(http.StatusUnprocessableEntity, problemAmbiguous, field, "%s", err)
		p.Candidates = listings(ambiguous.Candidates)
		return hinted(p, "Write the symbol in full, with its exchange.")
	case errors.As(err, &symbol):
		return problem(http.StatusUnprocessableEntity, problemSymbol, field, "%s", err)
	case errors.As(err, &noField):
		return hinted(problem(http.StatusUnprocessableEntity, problemField, field, "%s", err), "List all fields with 'soba fields'.")
	case errors.As(err, &syntax):
		return problem(http.StatusUnprocessableEntity, problemFormula, field, "%s", err)
	case errors.As(err, &taken):
		return hinted(problem(http.StatusConflict, problemNameTaken, field, "%s", err), "Choose another name.")
	case errors.Is(err, store.ErrNotFound):
		return problem(http.StatusNotFound, problemNotFound, field, "it does not exist, or no longer")
	case errors.Is(err, store.ErrChanged):
		return hinted(problem(http.StatusPreconditionFailed, problemChanged, "If-Match", "the watchlist was changed by someone else in the meantime; nothing was changed now"), "Read it again and repeat the change.")
	case errors.Is(err, context.DeadlineExceeded), store.Away(err):
		return hinted(problem(http.StatusServiceUnavailable, problemDatabase, "", "the database does not answer; nothing was changed"), "Try again in a moment; 'soba doctor' tells more.")
	}
	slog.Error("unexpected", "error", err)
	return problem(http.StatusInternalServerError, problemInternal, "", "something broke inside the service; its log has the details")
}

// badRequest is for an error whose text is written for the caller.
func badRequest(err error, field string) *wire.Problem {
	if p := asKnown(err, field); p != nil {
		return p
	}
	return problem(http.StatusUnprocessableEntity, problemBadRequest, field, "%s", err)
}

// asKnown is asProblem for the errors of columns and formulas; nil for others.
func asKnown(err error, field string) *wire.Problem {
	var noField *catalogue.UnknownFieldError
	var syntax *formula.SyntaxError
	if errors.As(err, &noField) || errors.As(err, &syntax) {
		return asProblem(err, field)
	}
	return nil
}

// fiberError answers what went wrong before a typed handler was reached.
func fiberError(c fiber.Ctx, err error) error {
	status, detail := http.StatusInternalServerError, "something broke inside the service; its log has the details"
	var fe *fiber.Error
	var p *wire.Problem
	switch {
	case errors.As(err, &p):
	case errors.As(err, &fe):
		status, detail = fe.Code, fe.Message
	default:
		slog.Error("unexpected", "error", err)
	}
	if p == nil {
		kind := problemBadRequest
		switch status {
		case http.StatusRequestEntityTooLarge:
			kind, detail = problemTooLarge, fmt.Sprintf("the request's body is larger than %d KiB; nothing was changed", bodyLimit>>10)
		case http.StatusNotFound:
			kind, detail = problemNotFound, "there is nothing at "+c.Path()
		case http.StatusMethodNotAllowed:
			detail = c.Method() + " is not possible at " + c.Path()
		case http.StatusInternalServerError:
			kind = problemInternal
		}
		p = problem(status, kind, "", "%s", detail)
	}
	return c.Status(p.Status).JSON(p, "application/problem+json")
}
