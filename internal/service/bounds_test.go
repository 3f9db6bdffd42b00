package service

import (
	"encoding/json"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/doors/dav"
	"diathermon/internal/people"
	"diathermon/internal/web"
	"diathermon/internal/web/guard"
)

// TestEverythingThatACallerCanDoIsInTheTableOfBounds of docs/security.md: every operation,
// every address that is none, and every method of the folder, each with tests that are there.
func TestEverythingThatACallerCanDoIsInTheTableOfBounds(t *testing.T) {
	text, err := os.ReadFile("../../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(text), "## What a caller can make the host do")
	table, _, _ = strings.Cut(table, "\n## ")
	quoted := regexp.MustCompile("`([^`]+)`")
	bounded, tests := map[string]bool{}, map[string]bool{}
	for _, row := range strings.Split(table, "\n| ")[2:] {
		cells := strings.Split(row, " | ")
		if len(cells) != 5 || strings.TrimSpace(cells[3]) == "" {
			t.Fatalf("a row is not as it should be: %s", row)
		}
		for _, m := range quoted.FindAllStringSubmatch(cells[1], -1) {
			bounded[m[1]] = true
		}
		held := quoted.FindAllStringSubmatch(cells[4], -1)
		for _, m := range held {
			tests[m[1]] = true
		}
		if len(held) == 0 && !strings.Contains(cells[4], "soak *") {
			t.Errorf("nothing holds %s", cells[1])
		}
	}
	for _, m := range regexp.MustCompile("`(Test[A-Za-z]+)`").FindAllStringSubmatch(table, -1) {
		tests[m[1]] = true
	}

	document, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	if err := json.Unmarshal(document, &d); err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, methods := range d.Paths {
		for _, op := range methods {
			there[op.OperationID] = true
		}
	}
	p, err := people.Open(t.Context(), names{}, "", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	s := &web.Server{Name: "Vesper", Areas: bare(), Access: guard.NewAccess(p, 8437, slog.New(slog.DiscardHandler)), Logger: slog.New(slog.DiscardHandler)}
	err = chi.Walk(s.Handler().(chi.Routes), func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if !strings.HasPrefix(route, "/v1/") {
			there[method+" "+route] = true
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, method := range dav.Methods {
		there[method] = true
	}
	for what := range there {
		if !bounded[what] {
			t.Errorf("%s is not in the table", what)
		}
	}
	for what := range bounded {
		if !there[what] {
			t.Errorf("%s is in the table, and nowhere else", what)
		}
	}

	err = filepath.WalkDir("..", func(path string, _ os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(source, -1) {
			delete(tests, string(m[1]))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for name := range tests {
		t.Errorf("the table names %s, and there is no such test", name)
	}
	soak, err := os.ReadFile("../e2e/attack_test.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile(`[ ,*]\*([a-z' ]+)\*`).FindAllStringSubmatch(table, -1) {
		if !strings.Contains(string(soak), `"`+m[1]+`":`) {
			t.Errorf("the table names the load %q, and there is none", m[1])
		}
	}
}
