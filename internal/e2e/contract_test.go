package e2e

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"

	"diathermon/internal/service"
)

// document is what of an OpenAPI document these tests read.
type document struct {
	OpenAPI string `json:"openapi"`
	Paths   map[string]map[string]struct {
		OperationID string                     `json:"operationId"`
		Summary     string                     `json:"summary"`
		Responses   map[string]json.RawMessage `json:"responses"`
		Security    []map[string][]string      `json:"security"`
	} `json:"paths"`
}

func TestTheContractIsWrittenDown(t *testing.T) {
	now, err := service.Document()
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if string(kept) != string(now) {
		t.Error("docs/openapi.json is not what the service serves: run 'make openapi' and read what changed")
	}
}

func TestTheServiceDescribesItsCalls(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	res, body := b.raw("GET", "/v1/openapi.json", nil)
	var d document
	if err := json.Unmarshal([]byte(body), &d); err != nil || res.StatusCode != 200 {
		t.Fatalf("%s, %v", res.Status, err)
	}
	if !strings.HasPrefix(d.OpenAPI, "3.1") {
		t.Errorf("OpenAPI %s", d.OpenAPI)
	}
	var calls []string
	for path, methods := range d.Paths {
		for method, op := range methods {
			calls = append(calls, strings.ToUpper(method)+" "+path)
			if op.OperationID == "" || op.Summary == "" || len(op.Security) == 0 {
				t.Errorf("%s %s is not described", method, path)
			}
			if _, ok := op.Responses["401"]; !ok {
				t.Errorf("%s %s does not say what an unknown token gets", method, path)
			}
		}
	}
	for _, want := range []string{
		"PUT /v1/shelf/{name}", "POST /v1/shelf", "GET /v1/shelf", "GET /v1/shelf/{name}", "DELETE /v1/shelf/{name}", "GET /v1/shelf/{name}/content",
		"POST /v1/runs", "GET /v1/runs", "GET /v1/runs/{id}", "POST /v1/runs/{id}/hold", "POST /v1/runs/{id}/resume", "POST /v1/runs/{id}/stop",
		"GET /v1/bench", "POST /v1/bench/reconnect", "GET /v1/heat", "PUT /v1/heat/{heater}", "POST /v1/wire", "GET /v1/wire", "POST /v1/halt", "GET /v1/events", "GET /v1/openapi.json",
	} {
		if !slices.Contains(calls, want) {
			t.Errorf("%s is not in the document", want)
		}
	}
}
