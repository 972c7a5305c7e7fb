package service

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"syscall"

	"github.com/labstack/echo/v5"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/docs"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/store"
)

func problem(status int, remedy, format string, args ...any) *api.Problem {
	return api.NewProblem(status, remedy, format, args...)
}

// ProblemTypes lists the types of problems that the API tells of.
func ProblemTypes() []string {
	out := []string{api.ProblemType("settled"), api.ProblemType("not-entitled"), api.ProblemType("key"), api.ProblemType("project"), api.ProblemType("foreign"), api.ProblemType("busy")}
	for _, kind := range api.ProblemKinds() {
		out = append(out, api.ProblemType(kind))
	}
	return out
}

// recordsRemedy says what helps where the records cannot be written.
func recordsRemedy(err error) string {
	is := func(causes ...error) bool {
		return slices.ContainsFunc(causes, func(cause error) bool { return errors.Is(err, cause) })
	}
	switch code := sqlite.Code(err); {
	case is(syscall.ENOSPC, syscall.EDQUOT) || code == sqlite.Full:
		return "Free some of the disk where they are."
	case is(syscall.EMFILE, syscall.ENFILE):
		return "Let the service open more files (`ulimit -n` before it starts), or end what keeps many open."
	case is(syscall.EROFS, syscall.EACCES, syscall.EPERM) || code == sqlite.ReadOnly:
		return "Let the service write where they are."
	}
	return "Look at the disk where they are."
}

func asProblem(err error) *api.Problem {
	var p *api.Problem
	var refused *loop.RefusedError
	var settled *loop.SettledError
	var others *loop.NotEntitledError
	var probs *app.ProblemsError
	var noDrill *app.UnknownDrillError
	var noAgent *prompt.UnknownAgentError
	var theirs *engine.OthersError
	var unknown *ledger.UnknownError
	var trouble *engine.TroubleError
	var room *store.RoomError
	var he *echo.HTTPError
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &refused):
		return problem(http.StatusUnprocessableEntity, refused.Remedy, "%s", refused.Say)
	case errors.As(err, &settled):
		return api.Narrower("settled", problem(http.StatusConflict, "Look at the run to see what followed.", "%s", settled.Error()))
	case errors.As(err, &others):
		return api.Narrower("not-entitled", problem(http.StatusForbidden, "Ask one of them; approvers: in stonebaton.yaml names who there is.", "%s", others.Error()))
	case errors.As(err, &noDrill):
		return problem(http.StatusNotFound, noDrill.Remedy(), "%s", noDrill.Error())
	case errors.As(err, &noAgent):
		return problem(http.StatusNotFound, noAgent.Remedy(), "%s", noAgent.Error())
	case errors.As(err, &room):
		return problem(http.StatusInsufficientStorage, "Free some, or let less be enough with   stonebaton serve -spare MB. What goes on can end.", "%s", room.Error())
	case errors.As(err, &trouble):
		return problem(http.StatusServiceUnavailable, recordsRemedy(trouble)+" Runs go on when the records can be written.", "%s", trouble.Error())
	case errors.As(err, &unknown):
		return problem(http.StatusNotImplemented, "", "%s", unknown.Error())
	case errors.As(err, &probs):
		out := api.Narrower("project", problem(http.StatusConflict, "`stonebaton check` lists them all; the files are read again as soon as they change.", "%s", probs.Error()))
		for _, x := range probs.Problems {
			if x.Grade == project.Error {
				out.Place = &x.Place
				break
			}
		}
		return out
	case errors.Is(err, engine.ErrNoRun):
		return problem(http.StatusNotFound, "`stonebaton runs` lists them.", "there is no such run")
	case errors.As(err, &theirs):
		return problem(http.StatusForbidden, fmt.Sprintf("Omit the session to begin a new one, or let %s share it: `stonebaton share %s -with %s`.", theirs.Person, theirs.Session, theirs.Asks), "%s", theirs.Error())
	case errors.Is(err, engine.ErrNoSession):
		return problem(http.StatusNotFound, "Omit the session to begin a new one.", "there is no such session")
	case errors.Is(err, store.ErrNoTry):
		return problem(http.StatusNotFound, "GET /api/tries lists them.", "there is no such try")
	case errors.Is(err, store.ErrNoTicket):
		return problem(http.StatusNotFound, "`stonebaton tickets` lists them.", "there is no such ticket")
	case errors.Is(err, app.ErrNotWaiting):
		return problem(http.StatusNotFound, "`stonebaton trust` lists what waits.", "%v", err)
	case errors.As(err, &he):
		return problem(he.Code, "", "%s", strings.ToLower(he.Message))
	}
	if errors.Is(err, echo.ErrMethodNotAllowed) {
		return problem(http.StatusMethodNotAllowed, "The header Allow lists those it takes.", "the path does not take this method")
	}
	if code := echo.StatusCode(err); code >= 400 && code < 500 {
		return problem(code, "", "%s", strings.ToLower(http.StatusText(code)))
	}
	return problem(http.StatusInternalServerError, "The service's log has more.", "%s", err.Error())
}

// explained serves the page that explains the types of problems.
func explained(c *echo.Context) error {
	return c.Blob(http.StatusOK, "text/plain; charset=utf-8", []byte(docs.Problems))
}
