package web

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
)

var (
	problemType = reflect.TypeFor[api.Problem]()
	storedType  = reflect.TypeFor[api.Stored]()
)

// documentOperation serves the description of all operations, its own included.
func (s *Server) documentOperation() {
	op := operation("get-openapi", http.MethodGet, "/v1/openapi.json", scopeRead, "This document")
	huma.Register(s.api, op, func(_ context.Context, _ *struct{}) (*struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}, error) {
		b, err := s.Document()
		if err != nil {
			return nil, s.problemOf(err)
		}
		return &struct {
			ContentType string `header:"Content-Type"`
			Body        []byte
		}{"application/json", b}, nil
	})
}

func document(a huma.API) ([]byte, error) {
	b, err := json.Marshal(a.OpenAPI())
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = json.Indent(&out, b, "", "  ")
	out.WriteByte('\n')
	return out.Bytes(), err
}
