package desk

import (
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"syscall"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
)

func init() {
	huma.DefaultArrayNullable = false
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		p := &api.Problem{Status: status, Title: msg}
		for _, err := range errs {
			if err != nil {
				p.Fields = append(p.Fields, err.Error())
			}
		}
		switch {
		case len(p.Fields) > 0 && (status == http.StatusUnprocessableEntity || status == http.StatusBadRequest):
			p.Title = "the request is not as it should be"
		case status == http.StatusRequestEntityTooLarge:
			p.Title, p.Detail = "the request is too large", "what is not a file has at most 1 MiB"
		}
		return p
	}
}

// A Kind of error: the HTTP status that it is answered with, and the title of its
// problem; what else the error's text says is the detail.
type Kind struct {
	Err    error
	Status int
	Title  string
}

// Problems turns errors into what they are answered with.
type Problems struct {
	log   *slog.Logger
	kinds []Kind
	more  []func(error) *api.Problem
}

// NewProblems returns one that knows no kinds yet.
func NewProblems(log *slog.Logger) Problems { return Problems{log: log} }

// Know adds kinds of errors. The first that fits is taken.
func (p *Problems) Know(kinds ...Kind) { p.kinds = append(p.kinds, kinds...) }

// KnowBy adds a kind of error that says more; f returns nil for others.
func (p *Problems) KnowBy(f func(error) *api.Problem) { p.more = append(p.more, f) }

// Of turns any error into what it is answered with.
func (p *Problems) Of(err error) *api.Problem {
	var problem *api.Problem
	if errors.As(err, &problem) {
		return problem
	}
	for _, f := range p.more {
		if problem = f(err); problem != nil {
			return problem
		}
	}
	for _, k := range p.kinds {
		if errors.Is(err, k.Err) {
			detail := strings.TrimPrefix(err.Error()+": ", k.Err.Error()+": ") // which the title says already
			detail = strings.TrimSuffix(detail, ": ")
			return &api.Problem{Status: k.Status, Title: k.Title, Detail: detail}
		}
	}
	if errors.Is(err, syscall.ENOSPC) {
		p.log.Error("the disk is full", "error", err)
		return &api.Problem{Status: http.StatusInsufficientStorage, Title: "the disk is full", Detail: "remove files from the shelf, or make room on the host's disk, and try again"}
	}
	p.log.Error("a request failed", "error", err)
	return &api.Problem{Status: http.StatusInternalServerError, Title: "something went wrong in the host", Detail: "its log says more"}
}

// WriteProblem answers with a problem.
func WriteProblem(w http.ResponseWriter, p *api.Problem) {
	WriteJSON(w, p.Status, "application/problem+json", p)
}
