// Package shelf is the area of stored files: taking them in, listing them, saying what
// they are.
package shelf

import (
	"cmp"
	"context"
	"mime"
	"net/http"
	"net/url"
	"os"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/doors"
	"diathermon/internal/facts"
	"diathermon/internal/shelf"
	"diathermon/internal/web/desk"
)

// Shelf is where files are stored.
type Shelf interface {
	Files(ctx context.Context) ([]toolpath.File, error)
	Known(ctx context.Context, name string) (toolpath.File, error)
	Read(name string) (*os.File, error)
	Begun(ctx context.Context, whose, name string) (shelf.Beginning, error)
	Coming() []*shelf.Coming
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
	Picture(f toolpath.File, pixels int) (file *os.File, which string, err error)
	Layers(f toolpath.File) (*os.File, error)
}

// Host is what prints them.
type Host interface {
	Preflight(ctx context.Context, f toolpath.File, slots stock.Mapping) (preflight.Report, error)
	WarmsIn(ctx context.Context, f toolpath.File) (time.Duration, bool, error) // false: that is not known
}

// Intake takes files in.
type Intake interface {
	Take(ctx context.Context, a shelf.Arrival, then doors.Then) (doors.Taken, error)
}

// Stock is what is loaded where.
type Stock interface{ Slots() []stock.Slot }

// Area is the area.
type Area struct {
	Printer machine.Printer
	Stock   Stock // what is loaded; nil: it is not known
	Shelf   Shelf
	Intake  Intake
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
		desk.Kind{Err: shelf.ErrGap, Status: http.StatusConflict, Title: "these bytes do not follow on those that are here"},
		desk.Kind{Err: shelf.ErrShort, Status: http.StatusBadRequest, Title: "the file did not arrive whole"},
		desk.Kind{Err: shelf.ErrLarge, Status: http.StatusRequestEntityTooLarge, Title: "the file is too large"},
		desk.Kind{Err: shelf.ErrCrowded, Status: http.StatusInsufficientStorage, Title: shelf.ErrCrowded.Error()},
		desk.Kind{Err: shelf.ErrFull, Status: http.StatusInsufficientStorage, Title: "the disk is full"},
	)
	a.mountFiles(d)
}

func (a Area) mountFiles(d *desk.Desk) {
	a.mountIntake(d)

	desk.Show(d, ops.ListFiles, func(ctx context.Context, _ *ops.Nothing) (api.Shelf, error) {
		return a.list(ctx, time.Now())
	})

	desk.Show(d, ops.GetFile, func(ctx context.Context, in *ops.FileFrom) (api.File, error) {
		f, err := a.Shelf.Known(ctx, in.Name)
		if err != nil {
			return api.File{}, err
		}
		if err := stock.Mapping(in.Slots).Check(f.Tools, a.Printer.Places()); err != nil {
			return api.File{}, err
		}
		return a.whole(ctx, f, in.Slots)
	})

	desk.Show(d, ops.ListFileLayers, func(ctx context.Context, in *ops.Name) (api.FileLayers, error) {
		f, err := a.Shelf.Known(ctx, in.Name)
		return facts.ByLayer(f, a.Printer), err
	})

	desk.Show(d, ops.ChangeFile, func(ctx context.Context, in *ops.NameWith[api.ChangeFile]) (api.File, error) {
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

	desk.Do(d, ops.RemoveFile, func(ctx context.Context, in *ops.Name) error {
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

	d.Raw(servesRanges(d, ops.GetFileContent.Call, "text/x-gcode"), "", a.content)
	a.mountDrawings(d)
	a.mountRehearsal(d)
}

// servesRanges describes an operation that serves bytes of a file, or a range of them.
func servesRanges(d *desk.Desk, c ops.Call, media string, more ...*huma.Param) huma.Operation {
	op := d.Describe(c)
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
func (a Area) whole(ctx context.Context, f toolpath.File, slots stock.Mapping) (api.File, error) {
	past, err := a.Runs.Histories(ctx)
	if err != nil {
		return api.File{}, err
	}
	report, err := a.Host.Preflight(ctx, f, slots)
	if err != nil {
		return api.File{}, err
	}
	took, known, err := a.Host.WarmsIn(ctx, f)
	if err != nil {
		return api.File{}, err
	}
	out := a.known(facts.Whole(f, a.Printer), past)
	if out.Slots = slots; a.Stock != nil {
		out.Proposed = proposed(f, a.Stock.Slots())
	}
	if out.Checks, out.Fine = facts.Checks(report.Checks), facts.Fine(report.Fine); known {
		s := took.Seconds()
		out.WarmingSeconds = &s
	}
	return out, nil
}

// proposed is from which slots a file's tools would best be printed; nil: from those of
// their numbers.
func proposed(f toolpath.File, slots []stock.Slot) []int {
	wants := make([]stock.Want, len(f.ByTool))
	for tool, mm := range f.ByTool {
		wants[tool] = stock.Want{Used: mm > 0, Material: f.Hints.MaterialOf(tool), Colour: f.Hints.ColourOf(tool)}
	}
	if m := stock.Propose(wants, slots); !m.Same() {
		return m
	}
	return nil
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
	out := api.Shelf{Files: make([]api.File, 0, len(files)), Coming: coming(a.Shelf.Coming()), Disk: api.Disk{UsedBytes: disk.Used, FreeBytes: disk.Free, TotalBytes: disk.Total, Unused: []string{}}}
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
