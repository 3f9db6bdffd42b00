// Package desk is what the areas of the HTTP side mount their operations on: one way
// to describe a call, to check its scope, to answer, and to say what is wrong.
//
// It promises that every operation is in the OpenAPI document with the scope that is
// enforced, and that every error is problem+json with words for a maker. It leaves who
// a caller is to guard, and what an operation does to its area.
package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/settable"
)

// An Area is one of the nouns under /v1 with its operations.
type Area interface {
	// Mount mounts the area's operations, describes them, and adds the kinds of its
	// errors to the book.
	Mount(*Desk)
}

// Guard knows who a caller is.
type Guard interface {
	// Lacking is the problem of a caller without the scope; nil: there is none.
	Lacking(ctx context.Context, scope string) *api.Problem
}

// A Desk takes operations.
type Desk struct {
	Problems
	guard  Guard
	api    huma.API
	router chi.Router
	tag    string

	mounted map[string]bool // operations, by their IDs
}

// New returns a desk that mounts on a router.
func New(r chi.Router, guard Guard, log *slog.Logger) *Desk {
	config := huma.DefaultConfig("Diathermon", version)
	config.Info.Description = "The print host of one 3D printer. Temperatures are °C, lengths mm, durations seconds, times RFC 3339 in UTC. Every error is application/problem+json (RFC 9457)."
	config.Info.Contact = &huma.Contact{Name: "Whoever keeps this host"}
	config.Info.License = &huma.License{Name: "All rights reserved", Identifier: "LicenseRef-AllRightsReserved"}
	config.Servers = []*huma.Server{{URL: "/", Description: "The host that serves this document"}}
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil // no links to schemas in bodies
	config.Transformers = []huma.Transformer{encode}
	config.Formats = map[string]huma.Format{"application/json": encodedFormat, "json": encodedFormat}
	config.DefaultFormat = "application/json"
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer", Description: "A token with the scopes that the operation names"},
	}
	d := &Desk{Problems: NewProblems(log), guard: guard, api: humachi.New(r, config), router: r, mounted: map[string]bool{}}
	d.api.UseMiddleware(d.scoped)
	return d
}

// version is that of the contract.
const version = "1.2.0"

// Mount mounts an area under the tag of its name.
func (d *Desk) Mount(tag, about string, a Area) {
	d.tag = tag
	d.api.OpenAPI().Tags = append(d.api.OpenAPI().Tags, &huma.Tag{Name: tag, Description: about})
	a.Mount(d)
}

// BodyWait is how long the first of a body may take.
const BodyWait = 20 * time.Second

// Describe is an operation as the document has it.
func (d *Desk) Describe(c ops.Call) huma.Operation {
	d.mounted[c.ID] = true
	return huma.Operation{
		BodyReadTimeout: BodyWait,
		OperationID:     c.ID, Method: c.Method, Path: c.Path, DefaultStatus: c.Status,
		Summary: brief(c.Summary), Description: c.Summary + ".", Tags: []string{d.tag},
		Security: []map[string][]string{{"token": {c.Scope}}},
		Errors:   append([]int{http.StatusUnauthorized, http.StatusForbidden}, c.Problems...),
	}
}

// Missing are the operations that were declared and not mounted.
func (d *Desk) Missing() (missing []string) {
	for _, c := range ops.All() {
		if !d.mounted[c.ID] {
			missing = append(missing, c.ID)
		}
	}
	return missing
}

// brief is the first clause of a sentence.
func brief(sentence string) string {
	if i := strings.IndexAny(sentence, ";:,"); i > 0 {
		return sentence[:i]
	}
	return sentence
}

// handle mounts a call. An error is answered with its problem.
func handle[In, Out any](d *Desk, op huma.Operation, f func(context.Context, *In) (*Out, error)) {
	huma.Register(d.api, op, func(ctx context.Context, in *In) (*Out, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, d.Of(err)
		}
		return out, nil
	})
}

// Show mounts a call that answers with a value.
func Show[In, T any](d *Desk, op ops.Op[In, T], f func(context.Context, *In) (T, error)) {
	type answer struct{ Body T }
	handle(d, d.Describe(op.Call), func(ctx context.Context, in *In) (*answer, error) {
		v, err := f(ctx, in)
		return &answer{v}, err
	})
}

// Make mounts a call that makes something, answers with it, and says where it is.
func Make[In, T any](d *Desk, op ops.Op[In, T], f func(context.Context, *In) (T, string, error)) {
	type answer struct {
		Location string `header:"Location"`
		Body     T
	}
	handle(d, d.Describe(op.Call), func(ctx context.Context, in *In) (*answer, error) {
		v, where, err := f(ctx, in)
		return &answer{where, v}, err
	})
}

// ShowIfAny mounts a call that answers with a value, or with 204 where there is none yet:
// which is what whoever asks expects, and no error.
func ShowIfAny[In, T any](d *Desk, op ops.Op[In, T], f func(context.Context, *In) (*T, error)) {
	type answer struct {
		Status int
		Body   *T
	}
	described := d.Describe(op.Call)
	described.Responses = map[string]*huma.Response{"204": {Description: "There is none yet"}}
	handle(d, described, func(ctx context.Context, in *In) (*answer, error) {
		v, err := f(ctx, in)
		if v == nil {
			return &answer{Status: http.StatusNoContent}, err
		}
		return &answer{http.StatusOK, v}, err
	})
}

// Do mounts a call that answers with nothing.
func Do[In any](d *Desk, op ops.Op[In, ops.Nothing], f func(context.Context, *In) error) {
	handle(d, d.Describe(op.Call), func(ctx context.Context, in *In) (*struct{}, error) { return nil, f(ctx, in) })
}

// Raw mounts a handler that reads or writes bytes as they come, with what Describe has
// made of its operation, and what there is more to say of it. Pattern is where the router
// mounts it, if that is not the path.
func (d *Desk) Raw(op huma.Operation, pattern string, handler func(http.ResponseWriter, *http.Request) error) {
	schema := d.Schema(api.Problem{})
	for _, status := range op.Errors {
		op.Responses[fmt.Sprint(status)] = &huma.Response{Description: http.StatusText(status), Content: map[string]*huma.MediaType{"application/problem+json": {Schema: schema}}}
	}
	d.api.OpenAPI().AddOperation(&op)
	scope := op.Security[0]["token"][0]
	if pattern == "" {
		pattern = op.Path
	}
	d.router.MethodFunc(op.Method, pattern, func(w http.ResponseWriter, r *http.Request) {
		err := error(nil)
		if p := d.guard.Lacking(r.Context(), scope); p != nil {
			err = p
		} else {
			err = handler(w, r)
		}
		if err != nil {
			WriteProblem(w, d.Of(err))
		}
	})
}

// Lacking is the problem of a caller without the scope; nil: there is none.
func (d *Desk) Lacking(ctx context.Context, scope string) *api.Problem {
	return d.guard.Lacking(ctx, scope)
}

// Schema is the schema of a type of the contract, by an example.
func (d *Desk) Schema(example any) *huma.Schema {
	t := reflect.TypeOf(example)
	return d.api.OpenAPI().Components.Schemas.Schema(t, true, t.Name())
}

// Settable says in the document what there is to know of the fields of a type that can be
// set: what each is and between which bounds, in words, and as x-settable for the
// console, with its place among them. Others are types that have the same fields.
func (d *Desk) Settable(fields []settable.Field, example any, others ...any) {
	properties := d.tell(fields, example)
	for i, f := range fields {
		properties[f.Name].Extensions = map[string]any{"x-settable": struct {
			Place int `json:"place"`
			settable.Field
		}{i + 1, f}}
	}
	for _, other := range others {
		d.tell(fields, other)
	}
}

// tell describes fields of a type, and returns all that the document has of them.
func (d *Desk) tell(fields []settable.Field, example any) map[string]*huma.Schema {
	d.Schema(example)
	properties := d.api.OpenAPI().Components.Schemas.Map()[reflect.TypeOf(example).Name()].Properties
	for _, f := range fields {
		of := properties[f.Name]
		of.Description = strings.ToUpper(f.About[:1]) + f.About[1:] + ": " + f.Between()
		if f.Longest > 0 {
			of.MaxLength = &f.Longest
			of.PrecomputeMessages()
		}
	}
	return properties
}

// Document is the OpenAPI document as indented JSON.
func (d *Desk) Document() ([]byte, error) {
	b, err := json.MarshalIndent(d.api.OpenAPI(), "", "  ")
	return append(b, '\n'), err
}

// Document is the area of the document itself.
type Document struct{}

// Mount mounts it.
func (Document) Mount(d *Desk) {
	type document struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}
	handle(d, d.Describe(ops.GetOpenAPI.Call), func(context.Context, *ops.Nothing) (*document, error) {
		b, err := d.Document()
		return &document{"application/json", b}, err
	})
}

// scoped checks the scope that an operation asks for.
func (d *Desk) scoped(ctx huma.Context, next func(huma.Context)) {
	for _, scheme := range ctx.Operation().Security {
		for _, scope := range scheme["token"] {
			if p := d.guard.Lacking(ctx.Context(), scope); p != nil {
				huma.WriteErr(d.api, ctx, p.Status, p.Title)
				return
			}
		}
	}
	next(ctx)
}
