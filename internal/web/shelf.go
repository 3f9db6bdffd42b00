package web

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/shelf"
)

// name is the input of a call about one file.
type name struct {
	Name string `path:"name" doc:"Name on the shelf"`
}

// answer wraps what a call answers with.
type answer[T any] struct{ Body T }

func (s *Server) shelfOperations(r chi.Router) {
	s.upload(r, "put-file", http.MethodPut, "/v1/shelf/{name}", "/v1/shelf/*", "Store a file, sent as raw bytes", "application/octet-stream", s.putFile)
	s.upload(r, "post-file", http.MethodPost, "/v1/shelf", "/v1/shelf", "Store a file, sent as a form; the part with a file name is taken, whatever it is called", "multipart/form-data", s.postFile)

	huma.Register(s.api, operation("list-files", http.MethodGet, "/v1/shelf", scopeRead, "List the files on the shelf"),
		func(ctx context.Context, _ *struct{}) (*answer[api.Shelf], error) {
			files, err := s.Shelf.Files(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out := api.Shelf{Files: make([]api.File, 0, len(files))}
			for _, f := range files {
				out.Files = append(out.Files, fileOf(f, s.Host.Printer()))
			}
			return &answer[api.Shelf]{out}, nil
		})

	huma.Register(s.api, operation("get-file", http.MethodGet, "/v1/shelf/{name}", scopeRead, "What a file's moves amount to, and what stands between it and a start", 404),
		func(ctx context.Context, in *name) (*answer[api.File], error) {
			f, err := s.Shelf.File(ctx, in.Name)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out := fileOf(f, s.Host.Printer())
			checks, err := s.Host.Preflight(ctx, f)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out.Checks = checksOf(checks)
			return &answer[api.File]{out}, nil
		})

	remove := operation("remove-file", http.MethodDelete, "/v1/shelf/{name}", scopeKeep, "Take a file off the shelf; not while it runs", 404, 409)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(s.api, remove, func(ctx context.Context, in *name) (*struct{}, error) {
		if err := s.Shelf.Remove(ctx, in.Name); err != nil {
			return nil, s.problemOf(err)
		}
		return nil, nil
	})

	content := operation("get-file-content", http.MethodGet, "/v1/shelf/{name}/content", scopeRead, "A file's bytes, with Range and ETag", 404)
	content.Responses = map[string]*huma.Response{
		"200": {Description: "The bytes", Content: map[string]*huma.MediaType{"text/x-gcode": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}},
		"206": {Description: "The range of the bytes that was asked for"},
		"304": {Description: "They have not changed"},
	}
	content.Parameters = []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	s.raw(r, content, content.Path, s.content)
}

// raw mounts a handler that reads or writes bytes as they come, and describes
// it like any other operation. Pattern is where the router mounts it.
func (s *Server) raw(r chi.Router, op huma.Operation, pattern string, handler http.HandlerFunc) {
	schema := s.api.OpenAPI().Components.Schemas.Schema(problemType, true, "Problem")
	for _, status := range op.Errors {
		op.Responses[fmt.Sprint(status)] = &huma.Response{Description: http.StatusText(status), Content: map[string]*huma.MediaType{"application/problem+json": {Schema: schema}}}
	}
	s.api.OpenAPI().AddOperation(&op)
	scope := op.Security[0]["token"][0]
	r.MethodFunc(op.Method, pattern, func(w http.ResponseWriter, r *http.Request) {
		if p := lacking(r.Context(), scope); p != nil {
			problem(w, p)
			return
		}
		handler(w, r)
	})
}

// upload describes and mounts one way to store a file.
func (s *Server) upload(r chi.Router, id, method, path, pattern, summary, media string, handler http.HandlerFunc) {
	op := operation(id, method, path, scopeSend, summary, 400, 409, 413, 422, 507)
	stored := &huma.Response{
		Description: "Stored; with then=print also started, or why not",
		Content:     map[string]*huma.MediaType{"application/json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(storedType, true, "Stored")}},
		Headers:     map[string]*huma.Param{"Location": {Schema: &huma.Schema{Type: "string"}, Description: "Where the file is"}},
	}
	same := *stored
	same.Description = "The same bytes were there already"
	op.Responses = map[string]*huma.Response{"201": stored, "200": &same}
	body := &huma.Schema{Type: "string", Format: "binary"}
	if media == "multipart/form-data" {
		body = &huma.Schema{Type: "object", Properties: map[string]*huma.Schema{"file": body}}
	} else {
		op.Parameters = append(op.Parameters, &huma.Param{Name: "name", In: "path", Required: true, Description: "Name on the shelf", Schema: &huma.Schema{Type: "string"}})
	}
	op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{media: {Schema: body}}}
	op.Parameters = append(op.Parameters,
		&huma.Param{Name: "replace", In: "query", Description: "Other bytes of the same name may go", Schema: &huma.Schema{Type: "boolean"}},
		&huma.Param{Name: "then", In: "query", Description: "Start it once it is stored", Schema: &huma.Schema{Type: "string", Enum: []any{"print"}}},
		&huma.Param{Name: "Content-Digest", In: "header", Description: "RFC 9530; a sha-256 in it is checked", Schema: &huma.Schema{Type: "string"}},
	)
	s.raw(r, op, pattern, handler)
}

func (s *Server) putFile(w http.ResponseWriter, r *http.Request) {
	// The name is the rest of the address as it was sent, so that a slash in it is
	// seen and named, whether it was escaped or not.
	_, raw, _ := strings.Cut(r.URL.EscapedPath(), "/v1/shelf/")
	name, err := url.PathUnescape(raw)
	if err != nil {
		problem(w, s.problemOf(fmt.Errorf("%w: %v", shelf.ErrName, err)))
		return
	}
	s.store(w, r, shelf.Arrival{Name: name, Body: r.Body, Size: r.ContentLength}, func() []string { return nil })
}

func (s *Server) postFile(w http.ResponseWriter, r *http.Request) {
	parts, err := r.MultipartReader()
	if err != nil {
		problem(w, &api.Problem{Status: http.StatusBadRequest, Title: "this is not a form with a file", Detail: "send multipart/form-data with one part that has a file name, or PUT the bytes to /v1/shelf/NAME"})
		return
	}
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			problem(w, &api.Problem{Status: http.StatusBadRequest, Title: "there is no file in this form", Detail: "one part must have a file name"})
			return
		}
		if err != nil {
			problem(w, s.problemOf(fmt.Errorf("%w: the form breaks off: %v", shelf.ErrShort, err)))
			return
		}
		if name := fileName(part.Header.Get("Content-Disposition")); name != "" {
			s.store(w, r, shelf.Arrival{Name: name, Body: part, Size: -1}, func() []string { return further(parts) })
			return
		}
	}
}

// mostNamed is how many files of a form are named that were not taken.
const mostNamed = 20

// further returns the names of the files that come behind the one of a form that was
// taken. A form that breaks off behind it takes nothing away from that.
func further(parts *multipart.Reader) []string {
	var names []string
	for {
		part, err := parts.NextPart()
		if err != nil {
			return names
		}
		if name := fileName(part.Header.Get("Content-Disposition")); name != "" && len(names) < mostNamed {
			names = append(names, name)
		}
	}
}

// fileName reads the file name of a form's part as it was sent: what mime's own
// reader would make of slashes is for the shelf to judge.
func fileName(disposition string) string {
	_, params, err := mime.ParseMediaType(disposition)
	if err != nil {
		return ""
	}
	return params["filename"]
}

// store takes an arrival in, starts it if that is asked for, and answers. Others
// returns the names of what came with it and was not taken, once it is stored.
func (s *Server) store(w http.ResponseWriter, r *http.Request, a shelf.Arrival, others func() []string) {
	query := r.URL.Query()
	a.Replace = query.Get("replace") == "true"
	then := query.Get("then")
	var err error
	if a.SHA256, err = digest(r.Header.Get("Content-Digest")); err != nil {
		problem(w, &api.Problem{Status: http.StatusBadRequest, Title: "the Content-Digest cannot be read", Detail: err.Error()})
		return
	}
	if then != "" && then != "print" {
		problem(w, &api.Problem{Status: http.StatusBadRequest, Title: fmt.Sprintf("then=%s is not known", then), Detail: "use then=print, or leave it out"})
		return
	}
	if then == "print" {
		if p := lacking(r.Context(), scopeStart); p != nil {
			problem(w, p)
			return
		}
	}
	f, outcome, err := s.Shelf.Store(r.Context(), a)
	if err != nil {
		problem(w, s.problemOf(err))
		return
	}
	out := api.Stored{File: fileOf(f, s.Host.Printer()), Outcome: string(outcome), NotTaken: others()}
	status := http.StatusCreated
	if outcome == shelf.Same {
		status = http.StatusOK
	}
	if then == "print" {
		now, err := s.Host.Start(r.Context(), f.Name, nil)
		if err != nil {
			out.Not = s.problemOf(err)
		} else {
			begun := runNowOf(now)
			out.Run = &begun
		}
	}
	w.Header().Set("Location", "/v1/shelf/"+url.PathEscape(f.Name))
	writeJSON(w, status, "application/json", out)
}

// digest reads the sha-256 of a Content-Digest field (RFC 9530); nil if it has
// none.
func digest(field string) ([]byte, error) {
	for item := range strings.SplitSeq(field, ",") {
		if value, ok := strings.CutPrefix(strings.TrimSpace(item), "sha-256="); ok {
			sum, err := base64.StdEncoding.DecodeString(strings.Trim(value, ":"))
			if err != nil || len(sum) != 32 {
				return nil, errors.New("it should look like sha-256=:BASE64: with 32 bytes in it")
			}
			return sum, nil
		}
	}
	return nil, nil
}

func (s *Server) content(w http.ResponseWriter, r *http.Request) {
	name, err := url.PathUnescape(chi.URLParam(r, "name"))
	if err != nil {
		name = chi.URLParam(r, "name")
	}
	f, err := s.Shelf.File(r.Context(), name)
	if err != nil {
		problem(w, s.problemOf(err))
		return
	}
	body, err := s.Shelf.Read(f.Name)
	if err != nil {
		problem(w, s.problemOf(err))
		return
	}
	defer body.Close()
	w.Header().Set("ETag", `"`+f.SHA256+`"`)
	w.Header().Set("Content-Type", "text/x-gcode; charset=utf-8")
	w.Header().Set("Content-Disposition", cmp.Or(mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}), "attachment"))
	http.ServeContent(w, r, f.Name, f.Stored, body)
}
