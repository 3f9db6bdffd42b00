// Package shelf is the area of stored files: taking them in, listing them, saying what
// they are.
package shelf

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
	"os"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/facts"
	"diathermon/internal/host/printing"
	"diathermon/internal/shelf"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/runs"
)

// Shelf is where files are stored.
type Shelf interface {
	Files(ctx context.Context) ([]toolpath.File, error)
	Known(ctx context.Context, name string) (toolpath.File, error)
	Read(name string) (*os.File, error)
	Store(ctx context.Context, a shelf.Arrival) (toolpath.File, shelf.Outcome, error)
	Remove(ctx context.Context, name string) error
	Change(ctx context.Context, name string, c shelf.Change) (toolpath.File, error)
	Disk(ctx context.Context) (shelf.Disk, error)
}

// Runs are the past runs of files.
type Runs interface {
	Histories(ctx context.Context) (map[string]run.History, error)
}

// Survey works out what they are.
type Survey interface {
	Share(name string) (share float64, now bool)
	Picture(f toolpath.File, pixels int) (*os.File, int, error)
	Layers(f toolpath.File) (*os.File, error)
}

// Host is what prints them.
type Host interface {
	Preflight(ctx context.Context, f toolpath.File) ([]preflight.Check, error)
	Start(ctx context.Context, file string, soak *heat.Soak) (printing.Now, error)
	WarmsIn(ctx context.Context, f toolpath.File) (time.Duration, bool, error) // false: that is not known
}

// Area is the area.
type Area struct {
	Printer machine.Printer
	Shelf   Shelf
	Survey  Survey
	Host    Host
	Runs    Runs
	Stage   Stage

	lacking func(ctx context.Context, scope string) *api.Problem
	problem func(error) *api.Problem
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	a.lacking, a.problem = d.Lacking, d.Of
	d.Know(
		desk.Kind{Err: shelf.ErrMissing, Status: http.StatusNotFound, Title: "there is no such file on the shelf"},
		desk.Kind{Err: shelf.ErrChanged, Status: http.StatusConflict, Title: "the file was changed on the host's disk"},
		desk.Kind{Err: shelf.ErrTaken, Status: http.StatusConflict, Title: "the name is taken"},
		desk.Kind{Err: shelf.ErrName, Status: http.StatusBadRequest, Title: "this cannot be a file's name"},
		desk.Kind{Err: shelf.ErrTag, Status: http.StatusBadRequest, Title: "this cannot be a tag"},
		desk.Kind{Err: shelf.ErrContent, Status: http.StatusUnprocessableEntity, Title: "this is not G-code"},
		desk.Kind{Err: shelf.ErrShort, Status: http.StatusBadRequest, Title: "the file did not arrive whole"},
		desk.Kind{Err: shelf.ErrLarge, Status: http.StatusRequestEntityTooLarge, Title: "the file is too large"},
		desk.Kind{Err: shelf.ErrFull, Status: http.StatusInsufficientStorage, Title: "the disk is full"},
	)
	a.mountFiles(d)
}

// name is the input of a call about one file.
type name struct {
	Name string `path:"name" doc:"Name on the shelf"`
}

// change is the input of a change of one.
type change struct {
	Name string `path:"name" doc:"Name on the shelf"`
	Body api.ChangeFile
}

func (a Area) mountFiles(d *desk.Desk) {
	a.upload(d, "put-file", http.MethodPut, "/v1/shelf/{name}", "/v1/shelf/*", "Store a file, sent as raw bytes", "application/octet-stream", a.putFile)
	a.upload(d, "post-file", http.MethodPost, "/v1/shelf", "/v1/shelf", "Store a file, sent as a form; the part with a file name is taken, whatever it is called", "multipart/form-data", a.postFile)

	desk.Show(d, d.Op("list-files", http.MethodGet, "/v1/shelf", desk.Read, "List the files on the shelf"),
		func(ctx context.Context, _ *struct{}) (api.Shelf, error) {
			return a.list(ctx, time.Now())
		})

	desk.Show(d, d.Op("get-file", http.MethodGet, "/v1/shelf/{name}", desk.Read, "What a file's moves amount to, and what stands between it and a start", 404),
		func(ctx context.Context, in *name) (api.File, error) {
			f, err := a.Shelf.Known(ctx, in.Name)
			if err != nil {
				return api.File{}, err
			}
			return a.whole(ctx, f)
		})

	desk.Show(d, d.Op("list-file-layers", http.MethodGet, "/v1/shelf/{name}/by-layer", desk.Read, "Time and filament of a file by layer", 404),
		func(ctx context.Context, in *name) (api.FileLayers, error) {
			f, err := a.Shelf.Known(ctx, in.Name)
			return facts.ByLayer(f, a.Printer), err
		})

	desk.Show(d, d.Op("change-file", http.MethodPatch, "/v1/shelf/{name}", desk.Send, "Give a file another name, or tags; not another name while it runs", 400, 404, 409),
		func(ctx context.Context, in *change) (api.File, error) {
			c := shelf.Change{Name: in.Body.Name}
			if in.Body.Tags != nil {
				c.Tags = append([]string{}, *in.Body.Tags...)
			}
			f, err := a.Shelf.Change(ctx, in.Name, c)
			if err != nil {
				return api.File{}, err
			}
			return a.known(facts.Of(f, a.Printer), nil), nil
		})

	remove := desk.Answering(http.StatusNoContent, d.Op("remove-file", http.MethodDelete, "/v1/shelf/{name}", desk.Keep, "Take a file off the shelf; not while it runs", 404, 409))
	desk.Do(d, remove, func(ctx context.Context, in *name) error {
		f, err := a.Shelf.Known(ctx, in.Name)
		if err != nil {
			return err
		}
		if err := a.Shelf.Remove(ctx, in.Name); err != nil {
			return err
		}
		a.Stage.Stop(f) // if it is on it: nobody could ask for it any more
		return nil
	})

	d.Raw(ranged(d, "get-file-content", "/v1/shelf/{name}/content", "A file's bytes, with Range and ETag", "text/x-gcode", []int{404}), "", a.content)
	a.mountDrawings(d)
	a.mountRehearsal(d)
}

// ranged describes an operation that serves bytes of a file, or a range of them.
func ranged(d *desk.Desk, id, path, summary, media string, errors []int, more ...*huma.Param) huma.Operation {
	op := d.Op(id, http.MethodGet, path, desk.Read, summary, errors...)
	op.Responses = map[string]*huma.Response{
		"200": {Description: "The bytes", Content: map[string]*huma.MediaType{media: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}},
		"206": {Description: "The range of the bytes that was asked for"},
		"304": {Description: "They have not changed"},
	}
	op.Parameters = append([]*huma.Param{{Name: "name", In: "path", Required: true, Description: "Name on the shelf", Schema: &huma.Schema{Type: "string"}}}, more...)
	return op
}

// known adds what others know of a file: how far its survey is, what became of it.
func (a Area) known(f api.File, past map[string]run.History) api.File {
	if share, now := a.Survey.Share(f.Name); now && f.Survey.State == string(facts.Waiting) {
		f.Survey = api.Survey{State: string(facts.Surveying), Share: share}
	}
	if h, ran := past[f.Digest]; ran {
		f.History = api.History{Runs: h.Runs, Finished: h.Finished, Last: &h.Last, State: string(h.State)}
	}
	return f
}

// whole is all that is known of a file, with what stands between it and a start, and how
// long its warm-up would take.
func (a Area) whole(ctx context.Context, f toolpath.File) (api.File, error) {
	past, err := a.Runs.Histories(ctx)
	if err != nil {
		return api.File{}, err
	}
	checks, err := a.Host.Preflight(ctx, f)
	if err != nil {
		return api.File{}, err
	}
	took, known, err := a.Host.WarmsIn(ctx, f)
	if err != nil {
		return api.File{}, err
	}
	out := a.known(facts.Whole(f, a.Printer), past)
	if out.Checks = runs.ChecksOf(checks); known {
		s := took.Seconds()
		out.WarmingSeconds = &s
	}
	return out, nil
}

// unusedFor is how long a file lies about before it is proposed to remove it.
const unusedFor = 90 * 24 * time.Hour

// list lists the shelf.
func (a Area) list(ctx context.Context, now time.Time) (api.Shelf, error) {
	files, err := a.Shelf.Files(ctx)
	if err != nil {
		return api.Shelf{}, err
	}
	past, err := a.Runs.Histories(ctx)
	if err != nil {
		return api.Shelf{}, err
	}
	disk, err := a.Shelf.Disk(ctx)
	if err != nil {
		return api.Shelf{}, err
	}
	out := api.Shelf{Files: make([]api.File, 0, len(files)), Disk: api.Disk{UsedBytes: disk.Used, FreeBytes: disk.Free, TotalBytes: disk.Total, Unused: []string{}}}
	var unused []api.File
	for _, f := range files {
		file := a.known(facts.Of(f, a.Printer), past)
		if last := file.History.Last; now.Sub(file.Stored) > unusedFor && (last == nil || now.Sub(*last) > unusedFor) {
			unused = append(unused, file)
		}
		out.Files = append(out.Files, file)
	}
	slices.SortStableFunc(unused, func(a, b api.File) int { return cmp.Compare(b.Size, a.Size) })
	for _, f := range unused {
		out.Disk.Unused = append(out.Disk.Unused, f.Name)
	}
	return out, nil
}

// upload describes and mounts one way to store a file.
func (a Area) upload(d *desk.Desk, id, method, path, pattern, summary, media string, handler func(http.ResponseWriter, *http.Request) error) {
	op := d.Op(id, method, path, desk.Send, summary, 400, 409, 413, 422, 507)
	stored := &huma.Response{
		Description: "Stored; with then=print also started, or why not",
		Content:     map[string]*huma.MediaType{"application/json": {Schema: d.Schema(api.Stored{})}},
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
	d.Raw(op, pattern, handler)
}

func (a Area) putFile(w http.ResponseWriter, r *http.Request) error {
	// The name is the rest of the address as it was sent, so that a slash in it is
	// seen and named, whether it was escaped or not.
	_, raw, _ := strings.Cut(r.URL.EscapedPath(), "/v1/shelf/")
	name, err := url.PathUnescape(raw)
	if err != nil {
		return fmt.Errorf("%w: %v", shelf.ErrName, err)
	}
	return a.store(w, r, shelf.Arrival{Name: name, Body: r.Body, Size: r.ContentLength}, func() []string { return nil })
}

func (a Area) postFile(w http.ResponseWriter, r *http.Request) error {
	parts, err := r.MultipartReader()
	if err != nil {
		return &api.Problem{Status: http.StatusBadRequest, Title: "this is not a form with a file", Detail: "send multipart/form-data with one part that has a file name, or PUT the bytes to /v1/shelf/NAME"}
	}
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			return &api.Problem{Status: http.StatusBadRequest, Title: "there is no file in this form", Detail: "one part must have a file name"}
		}
		if err != nil {
			return fmt.Errorf("%w: the form breaks off: %v", shelf.ErrShort, err)
		}
		if name := fileName(part.Header.Get("Content-Disposition")); name != "" {
			return a.store(w, r, shelf.Arrival{Name: name, Body: part, Size: -1}, func() []string { return further(parts) })
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
func (a Area) store(w http.ResponseWriter, r *http.Request, in shelf.Arrival, others func() []string) error {
	query := r.URL.Query()
	in.Replace = query.Get("replace") == "true"
	then := query.Get("then")
	var err error
	if in.SHA256, err = digest(r.Header.Get("Content-Digest")); err != nil {
		return &api.Problem{Status: http.StatusBadRequest, Title: "the Content-Digest cannot be read", Detail: err.Error()}
	}
	if then != "" && then != "print" {
		return &api.Problem{Status: http.StatusBadRequest, Title: fmt.Sprintf("then=%s is not known", then), Detail: "use then=print, or leave it out"}
	}
	if then == "print" {
		if p := a.lacking(r.Context(), desk.Start); p != nil {
			return p
		}
	}
	in.Whole, in.Sender = then == "print", guard.Caller(r.Context())
	f, outcome, err := a.Shelf.Store(r.Context(), in)
	if err != nil {
		return err
	}
	out := api.Stored{File: a.known(facts.Of(f, a.Printer), nil), Outcome: string(outcome), NotTaken: others()}
	status := http.StatusCreated
	if outcome == shelf.Same {
		status = http.StatusOK
	}
	if then == "print" {
		if whole, err := a.whole(r.Context(), f); err == nil { // what it is started by
			out.File = whole
		}
		now, err := a.Host.Start(r.Context(), f.Name, nil)
		if err != nil {
			out.Not = a.problem(err)
		} else {
			begun := runs.NowOf(now)
			out.Run = &begun
		}
	}
	w.Header().Set("Location", "/v1/shelf/"+url.PathEscape(f.Name))
	desk.WriteJSON(w, status, "application/json", out)
	return nil
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

// asked is the name in a request's path.
func asked(r *http.Request) string {
	raw := chi.URLParam(r, "name")
	if name, err := url.PathUnescape(raw); err == nil {
		return name
	}
	return raw
}

func (a Area) content(w http.ResponseWriter, r *http.Request) error {
	f, err := a.Shelf.Known(r.Context(), asked(r))
	if err != nil {
		return err
	}
	body, err := a.Shelf.Read(f.Name)
	if err != nil {
		return err
	}
	defer body.Close()
	w.Header().Set("ETag", `"`+f.Digest+`"`)
	w.Header().Set("Content-Type", "text/x-gcode; charset=utf-8")
	w.Header().Set("Content-Disposition", cmp.Or(mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}), "attachment"))
	http.ServeContent(w, r, f.Name, f.Stored, body)
	return nil
}
