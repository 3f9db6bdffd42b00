package web

import (
	"errors"
	"io/fs"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
	"diathermon/internal/shelf"
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
		if len(p.Fields) > 0 && status == http.StatusUnprocessableEntity {
			p.Title = "the request is not as it should be"
		}
		return p
	}
}

// statuses tells which HTTP status an error is answered with, and the title of
// its problem; what else the error's text says is the detail.
var statuses = []struct {
	err    error
	status int
	title  string
}{
	{shelf.ErrMissing, http.StatusNotFound, "there is no such file on the shelf"},
	{shelf.ErrChanged, http.StatusConflict, "the file was changed on the host's disk"},
	{shelf.ErrTaken, http.StatusConflict, "the name is taken"},
	{shelf.ErrName, http.StatusBadRequest, "this cannot be a file's name"},
	{shelf.ErrContent, http.StatusUnprocessableEntity, "this is not G-code"},
	{shelf.ErrShort, http.StatusBadRequest, "the file did not arrive whole"},
	{shelf.ErrLarge, http.StatusRequestEntityTooLarge, "the file is too large"},
	{shelf.ErrFull, http.StatusInsufficientStorage, "the disk is full"},
	{run.ErrUnknown, http.StatusNotFound, "there is no such run"},
	{host.ErrNoRun, http.StatusConflict, "this run is not going on"},
	{host.ErrState, http.StatusConflict, "the run is not in a state for that"},
	{host.ErrBusy, http.StatusConflict, "a run is going on"},
	{host.ErrNotLive, http.StatusServiceUnavailable, "the printer is not answering"},
	{host.ErrLost, http.StatusServiceUnavailable, "the printer did not take it"},
	{host.ErrLine, http.StatusUnprocessableEntity, "this line cannot be said"},
	{host.ErrHeater, http.StatusNotFound, "there is no such heater"},
	{host.ErrSetpoint, http.StatusUnprocessableEntity, "the setpoint is out of bounds"},
	{host.ErrAlarm, http.StatusConflict, "an alarm waits for you"},
	{host.ErrNoAlarm, http.StatusNotFound, "there is no such alarm"},
	{heat.ErrWarmUp, http.StatusUnprocessableEntity, "this is no warm-up"},
	{heat.ErrNoWarmUp, http.StatusNotFound, "there is no such warm-up"},
	{host.ErrTuning, http.StatusNotFound, "there is no tuning for that"},
	{host.ErrMeasure, http.StatusConflict, "it cannot be measured now what the printer can hold"},
	{host.ErrPlan, http.StatusUnprocessableEntity, "it cannot be picked up there"},
	{host.ErrJournal, http.StatusInsufficientStorage, "the run cannot be kept safe"},
	{fs.ErrNotExist, http.StatusNotFound, "there is no recording of this run"},
	{host.ErrClosed, http.StatusServiceUnavailable, "the host is shutting down"},
}

// problemOf turns any error into what it is answered with.
func (s *Server) problemOf(err error) *api.Problem {
	var p *api.Problem
	if errors.As(err, &p) {
		return p
	}
	var blocked *host.BlockedError
	if errors.As(err, &blocked) {
		return &api.Problem{Status: http.StatusConflict, Title: "it cannot start", Detail: blocked.Error(), Checks: checksOf(blocked.Checks)}
	}
	for _, k := range statuses {
		if errors.Is(err, k.err) {
			// The text repeats what kind of error it is, which the title says already.
			detail := strings.TrimPrefix(strings.TrimPrefix(err.Error(), k.err.Error()), ": ")
			return &api.Problem{Status: k.status, Title: k.title, Detail: detail}
		}
	}
	s.Logger.Error("a request failed", "error", err)
	return &api.Problem{Status: http.StatusInternalServerError, Title: "something went wrong in the host", Detail: "its log says more"}
}

// problem writes p.
func problem(w http.ResponseWriter, p *api.Problem) {
	writeJSON(w, p.Status, "application/problem+json", p)
}
