package web

import (
	"bytes"
	"io"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

func TestAnAnswerThatCannotBeEncodedIsA500(t *testing.T) {
	var log bytes.Buffer
	s := &Server{Logger: slog.New(slog.NewTextHandler(&log, nil))}
	h := guard.Limited(s.recover(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		desk.WriteJSON(w, http.StatusOK, "application/json", map[string]float64{"left": math.Inf(1)})
		t.Error("it was encoded")
	})))
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/v1/bench", nil))
	if w.Code != http.StatusInternalServerError || !strings.HasPrefix(w.Body.String(), `{"title"`) || strings.Count(log.String(), "cannot be encoded") != 1 {
		t.Errorf("%d %s; the log: %s", w.Code, w.Body, log.String())
	}
}

func TestAnAnswerThatPanicsInItsMiddleIsBrokenOff(t *testing.T) {
	var log bytes.Buffer
	s := &Server{Logger: slog.New(slog.NewTextHandler(&log, nil))}
	for path, handler := range map[string]http.HandlerFunc{
		"/middle": func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, "half of ")
			panic("the disk")
		},
		"/abort": func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, "half of ")
			panic(http.ErrAbortHandler)
		},
	} {
		server := httptest.NewServer(guard.Limited(s.recover(handler)))
		res, err := http.Get(server.URL + path)
		if err == nil {
			_, err = io.ReadAll(res.Body)
			res.Body.Close()
		}
		if err == nil {
			t.Errorf("%s: it was taken for whole", path)
		}
		server.Close()
	}
	if said := log.String(); strings.Count(said, "panicked") != 1 || !strings.Contains(said, "web_test.go") {
		t.Errorf("the log: %s", said)
	}
	w := httptest.NewRecorder()
	s.recover(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic("before it began") })).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	if w.Code != http.StatusInternalServerError {
		t.Errorf("before it began: %d", w.Code)
	}
}
