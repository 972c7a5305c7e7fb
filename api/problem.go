package api

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
)

// kinds names the type of a problem by its status, where nothing narrower fits.
var kinds = map[int]string{
	http.StatusBadRequest: "request", http.StatusUnauthorized: "unknown", http.StatusForbidden: "right", http.StatusTooManyRequests: "often", http.StatusNotFound: "not-found", http.StatusMethodNotAllowed: "method", http.StatusRequestTimeout: "slow",
	http.StatusConflict: "conflict", http.StatusGone: "gone", http.StatusRequestEntityTooLarge: "large", http.StatusUnsupportedMediaType: "media", http.StatusUnprocessableEntity: "refused",
	http.StatusInternalServerError: "internal", http.StatusNotImplemented: "newer", http.StatusBadGateway: "source", http.StatusServiceUnavailable: "store", http.StatusInsufficientStorage: "room",
}

// ProblemType gives the URI of a type of problems: its place on the page that explains them.
func ProblemType(kind string) string { return "/problems#" + kind }

// NewProblem gives an error as the API tells it.
func NewProblem(status int, remedy, format string, args ...any) *Problem {
	kind, ok := kinds[status]
	if !ok {
		kind = kinds[http.StatusBadRequest]
		if status >= 500 {
			kind = kinds[http.StatusInternalServerError]
		}
	}
	return &Problem{Type: ProblemType(kind), Title: http.StatusText(status), Status: status, Detail: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Narrower gives a problem of a type of its own.
func Narrower(kind string, p *Problem) *Problem {
	p.Type = ProblemType(kind)
	return p
}

// ProblemKinds lists the kinds of problems that a status alone tells.
func ProblemKinds() []string { return slices.Sorted(maps.Values(kinds)) }
