package shelf_test

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/queue"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/doors"
	"diathermon/internal/host/printing"
	"diathermon/internal/rehearsal"
	"diathermon/internal/shelf"
	"diathermon/internal/survey"
	"diathermon/internal/web/runs"
	area "diathermon/internal/web/shelf"
	"diathermon/internal/web/webtest"
)

// board is a shelf in memory that takes everything, and the host that prints it.
type board struct {
	dir     string
	arrived []shelf.Arrival
	bytes   []string
	outcome shelf.Outcome
	more    bool
	refuse  error
	started []string
	blocked error
	changed *shelf.Change
}

func (b *board) Files(context.Context) ([]toolpath.File, error) {
	return []toolpath.File{{Name: "cap.gcode", Digest: "abc"}, {Name: "knob.gcode", Size: 9}, {Name: "shoe.gcode", Size: 10, Stored: time.Now()}, {Name: "old.gcode", Size: 11}}, nil
}
func (b *board) File(_ context.Context, name string) (toolpath.File, error) {
	if name == "big.gcode" {
		return toolpath.File{Name: name, Digest: "def", Size: 9 << 20}, nil
	}
	if name != "cap.gcode" {
		return toolpath.File{}, fmt.Errorf("%w: %q", shelf.ErrMissing, name)
	}
	marks := []run.Mark{{Command: 3, Z: 0.2, Seconds: 10, Filament: 100}, {Command: 9, Z: 0.4, Seconds: 30, Filament: 600}}
	return toolpath.File{Name: name, Digest: "abc", Summary: toolpath.Summary{Marks: marks, Duration: 35 * time.Second, ByTool: []float64{0, 1000}, Spent: []float64{5, 30}, Filament: 1000, Setpoints: map[heat.Heater]float64{heat.Bed: 60}}}, nil
}
func (b *board) Read(name string) (*os.File, error) { return os.Open(filepath.Join(b.dir, name)) }
func (b *board) Store(_ context.Context, a shelf.Arrival) (toolpath.File, shelf.Outcome, error) {
	all, err := io.ReadAll(a.Body)
	if err != nil || b.refuse != nil {
		return toolpath.File{}, "", fmt.Errorf("%w: the disk", b.refuse)
	}
	b.arrived, b.bytes = append(b.arrived, a), append(b.bytes, string(all))
	if b.more {
		return toolpath.File{Name: a.Name, Size: a.Offset + int64(len(all))}, "", shelf.ErrMore
	}
	return toolpath.File{Name: a.Name}, b.outcome, nil
}
func (b *board) Begun(_ context.Context, sender, name string) (shelf.Beginning, error) {
	return shelf.Beginning{Bytes: 5, Digest: sender + name}, nil
}
func (b *board) Coming() []*shelf.Coming { return nil }
func (b *board) Add(_ context.Context, name, _, _ string, _ queue.Wish) (queue.Entry, int, error) {
	return queue.Entry{File: name}, 3, b.blocked
}
func (b *board) Known(ctx context.Context, name string) (toolpath.File, error) {
	return b.File(ctx, name)
}
func (b *board) Change(_ context.Context, name string, c shelf.Change) (toolpath.File, error) {
	if b.changed = &c; name == "none.gcode" {
		return toolpath.File{}, shelf.ErrMissing
	}
	if c.Name != nil {
		name = *c.Name
	}
	return toolpath.File{Name: name, Tags: c.Tags}, nil
}
func (b *board) Disk(context.Context) (shelf.Disk, error) {
	return shelf.Disk{Used: 5, Free: 6, Total: 20}, nil
}
func (b *board) Open(context.Context, toolpath.File) (io.ReadCloser, error) {
	return nil, shelf.ErrMissing
}
func (b *board) Histories(context.Context) (map[string]run.History, error) {
	return map[string]run.History{"abc": {Runs: 3, Finished: 2, Last: time.Now().Add(-time.Hour), State: run.Broken}}, nil
}
func (b *board) Share(name string) (float64, bool) { return 0.4, name == "big.gcode" }
func (b *board) Picture(f toolpath.File, pixels int) (*os.File, string, error) {
	file, err := b.Layers(f)
	return file, fmt.Sprint(pixels), err
}
func (b *board) Layers(f toolpath.File) (*os.File, error) {
	if f.Name == "big.gcode" {
		return nil, survey.ErrNotYet
	}
	return b.Read(f.Name)
}
func (b *board) Remove(ctx context.Context, name string) error {
	_, err := b.File(ctx, name)
	return err
}
func (b *board) Preflight(context.Context, toolpath.File, stock.Mapping) (preflight.Report, error) {
	return preflight.Report{Checks: []preflight.Check{{Level: preflight.Warn, Title: "look at the bed", Do: "look"}}}, nil
}
func (b *board) WarmsIn(_ context.Context, f toolpath.File) (time.Duration, bool, error) {
	return 200 * time.Second, f.Digest == "abc", nil
}

func (b *board) Start(_ context.Context, o printing.Order) (printing.Now, error) {
	b.started = append(b.started, o.File)
	return printing.Now{Record: run.Record{ID: "r1", File: o.File, State: run.Waiting}}, b.blocked
}

func mount(t *testing.T, lacks string, b *board) *webtest.Caller {
	b.dir = t.TempDir()
	return webtest.Mount(t, lacks, area.Area{Printer: machine.Printer{Filament: 1.75, Density: 1.24, Price: 20, Currency: "EUR"}, Shelf: b, Intake: doors.Intake{Shelf: b, Host: b, Line: b}, Survey: b, Host: b, Runs: b, Stage: rehearsal.NewStage(b, nil)}, runs.Area{})
}

func TestBytesArriveUnderTheNameThatWasSent(t *testing.T) {
	b := &board{outcome: shelf.Created}
	c := mount(t, "", b)
	for path, want := range map[string]string{"/v1/shelf/cap%20one.gcode": "cap one.gcode", "/v1/shelf/a%2Fb.gcode": "a/b.gcode", "/v1/shelf/..%2f..%2fetc": "../../etc", "/v1/shelf/a/b.gcode": "a/b.gcode"} {
		var stored api.Stored
		w := c.Call("PUT", path+"?replace=true", "G28\n", &stored)
		last := b.arrived[len(b.arrived)-1]
		if w.Code != http.StatusCreated || last.Name != want || !last.Replace || last.Size != 4 || b.bytes[len(b.bytes)-1] != "G28\n" {
			t.Errorf("%s: %d, %+v", path, w.Code, last)
		}
	}
	if w := c.Call("PUT", "/v1/shelf/x.gcode", "G28\n", nil); w.Header().Get("Location") != "/v1/shelf/x.gcode" || b.arrived[len(b.arrived)-1].Replace {
		t.Errorf("its place is %q, and other bytes of its name may go: %v", w.Header().Get("Location"), b.arrived[len(b.arrived)-1].Replace)
	}
	b.outcome = shelf.Same
	if w := c.Call("PUT", "/v1/shelf/x.gcode", "G28\n", nil); w.Code != http.StatusOK {
		t.Errorf("the same bytes again: %d", w.Code)
	}
	for err, status := range map[error]int{shelf.ErrFull: 507, shelf.ErrLarge: 413, shelf.ErrShort: 400, shelf.ErrTaken: 409, shelf.ErrContent: 422} {
		b.refuse = err
		if w := c.Call("PUT", "/v1/shelf/x.gcode", "G28\n", nil); w.Code != status {
			t.Errorf("%v: %d, want %d", err, w.Code, status)
		}
	}
}

func TestAFormsFileIsTakenWhateverItsPartIsCalled(t *testing.T) {
	b := &board{outcome: shelf.Created}
	c := mount(t, "", b)
	form := func(parts ...string) string {
		out := ""
		for _, p := range parts {
			out += "--x\r\nContent-Disposition: form-data; " + p + "\r\n"
		}
		return out + "--x--\r\n"
	}
	const header = "multipart/form-data; boundary=x"
	var stored api.Stored
	w := c.Call("POST", "/v1/shelf", form("name=\"note\"\r\n\r\nhello", "name=\"anything\"; filename=\"cap.gcode\"\r\n\r\nG28\n", "name=\"second\"; filename=\"knob.gcode\"\r\n\r\nG1"), &stored, "Content-Type", header)
	if w.Code != http.StatusCreated || b.arrived[0].Name != "cap.gcode" || b.bytes[0] != "G28\n" || !slices.Equal(stored.NotTaken, []string{"knob.gcode"}) {
		t.Errorf("%d %s: %+v", w.Code, w.Body, b.arrived)
	}
	c.Refused("POST", "/v1/shelf", form("name=\"note\"\r\n\r\nhello"), 400, "there is no file in this form", "Content-Type", header)
	c.Refused("POST", "/v1/shelf", "--x\r\nContent-Dis", 400, "the file did not arrive whole", "Content-Type", header)
	c.Refused("POST", "/v1/shelf", "G28", 400, "this is not a form with a file")
}

func TestADigestThatIsSentIsHandedOn(t *testing.T) {
	b := &board{outcome: shelf.Created}
	c := mount(t, "", b)
	sum := sha256.Sum256([]byte("G28\n"))
	c.Call("PUT", "/v1/shelf/x.gcode", "G28\n", nil, "Content-Digest", "md5=:AAAA:, sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	if !slices.Equal(b.arrived[0].SHA256, sum[:]) {
		t.Errorf("%x arrived, want %x", b.arrived[0].SHA256, sum)
	}
	for _, bad := range []string{"sha-256=:AAAA:", "sha-256=:!:", "sha-256="} {
		c.Refused("PUT", "/v1/shelf/x.gcode", "G28\n", 400, "the Content-Digest cannot be read", "Content-Digest", bad)
	}
	if len(b.arrived) != 1 {
		t.Error("bytes with a digest that cannot be read were stored")
	}
}

func TestAFileIsStartedOnlyByThoseWhoMay(t *testing.T) {
	b := &board{outcome: shelf.Created}
	c := mount(t, access.Start, b)
	c.Refused("PUT", "/v1/shelf/x.gcode?then=print", "G28\n", 403, "this token may not do that")
	c.Refused("PUT", "/v1/shelf/x.gcode?then=hope", "G28\n", 400, "then=hope is not known")
	if len(b.arrived)+len(b.started) != 0 {
		t.Errorf("%d stored, %d started", len(b.arrived), len(b.started))
	}
	c = mount(t, "", b)
	var stored api.Stored
	if c.Call("PUT", "/v1/shelf/x.gcode?then=print", "G28\n", &stored); stored.Run == nil || stored.Run.ID != "r1" || len(stored.File.Checks) != 1 || !slices.Equal(b.started, []string{"x.gcode"}) {
		t.Errorf("%+v, started %q", stored, b.started)
	}
	b.blocked = &printing.BlockedError{Report: preflight.Report{Checks: []preflight.Check{{Level: preflight.Block, Title: "it does not fit"}}}}
	stored = api.Stored{}
	if w := c.Call("PUT", "/v1/shelf/y.gcode?then=print", "G28\n", &stored); w.Code != http.StatusCreated || stored.Run != nil || stored.Not == nil || stored.Not.Detail != "it does not fit" || len(stored.Not.Checks) != 1 {
		t.Errorf("stored and not started: %d %+v", w.Code, stored)
	}
}

func TestAFileWaitsInTurn(t *testing.T) {
	b := &board{outcome: shelf.Created}
	c := mount(t, "", b)
	var stored api.Stored
	if c.Call("PUT", "/v1/shelf/x.gcode?then=queue", "G28\n", &stored); stored.Place != 3 || stored.Run != nil || len(b.started) != 0 || b.arrived[0].Whole {
		t.Errorf("%+v, started %q", stored, b.started)
	}
	const form = "--x\r\nContent-Disposition: form-data; name=\"then\"\r\n\r\nqueue\r\n--x\r\nContent-Disposition: form-data; name=\"f\"; filename=\"cap.gcode\"\r\n\r\nG28\n\r\n--x--\r\n"
	stored = api.Stored{}
	if c.Call("POST", "/v1/shelf", form, &stored, "Content-Type", "multipart/form-data; boundary=x"); stored.Place != 3 {
		t.Errorf("by a field of a form: %+v", stored)
	}
	c = mount(t, access.Start, b)
	c.Refused("PUT", "/v1/shelf/x.gcode?then=queue", "G28\n", 403, "this token may not do that")
}

func TestAPieceSaysWhichBytesOfAFileItHas(t *testing.T) {
	b := &board{more: true}
	c := mount(t, "", b)
	var here api.Beginning
	if w := c.Call("PUT", "/v1/shelf/x.gcode", "G28\n", &here, "Content-Range", "bytes 5-8/20"); w.Code != http.StatusAccepted || b.arrived[0].Offset != 5 || b.arrived[0].Size != 20 || !b.arrived[0].Piece {
		t.Errorf("%d %+v: %+v", w.Code, here, b.arrived[0])
	}
	b.more = false
	if w := c.Call("PUT", "/v1/shelf/x.gcode", "G28\n", nil, "Content-Range", "bytes 16-19/20"); w.Code != http.StatusCreated || b.arrived[1].Piece {
		t.Errorf("the last: %d, %+v", w.Code, b.arrived[1])
	}
	for _, bad := range []string{"bytes 5-8/*", "bytes */20", "bytes 8-5/20", "bytes 5-8/8", "bytes=5-8/20", "lines 5-8/20", "bytes 5-8/20, 9-9/20", "bytes -5-8/20", "bytes 05-8/20"} {
		c.Refused("PUT", "/v1/shelf/x.gcode", "G28\n", 400, "this Content-Range cannot be read", "Content-Range", bad)
	}
	c.Refused("PUT", "/v1/shelf/x.gcode", "G28\n", 400, "the Content-Range does not fit the body", "Content-Range", "bytes 5-9/20")
	if c.Call("GET", "/v1/shelf/x.gcode/beginning", "", &here); here.ReceivedBytes != 5 || here.Digest == "" {
		t.Errorf("what is here: %+v", here)
	}
}

func TestAFileSaysWhatItIs(t *testing.T) {
	b := &board{}
	c := mount(t, "", b)
	var f api.File
	if c.Call("GET", "/v1/shelf/cap.gcode", "", &f); len(f.Checks) != 1 || f.Setpoints["bed"] != 60 || f.FilamentG < 2.98 || f.FilamentG > 2.99 || f.Extent != nil && f.Extent.Max[0] != 0 {
		t.Errorf("%+v", f) // a metre of 1.75 mm at 1.24 g/cm³ is 2.983 g
	}
	if len(f.Tools) != 1 || f.Tools[0].Tool != 1 || f.Tools[0].Seconds != 30 || f.Tools[0].G != f.FilamentG || *f.Tools[0].Cost != *f.Cost || *f.WarmingSeconds != 200 {
		t.Errorf("its tools %+v, it warms for %v s", f.Tools, f.WarmingSeconds)
	}
	var l api.FileLayers
	c.Call("GET", "/v1/shelf/cap.gcode/by-layer", "", &l)
	if len(l.Layers) != 2 || l.Currency != "EUR" || l.Layers[0].Seconds != 20 || l.Layers[0].MM != 500 || l.Layers[1].Seconds != 5 || l.Layers[1].MM != 400 || math.Abs(*l.Layers[1].Cost-0.02*l.Layers[1].G) > 1e-9 {
		t.Errorf("by layer it is %+v", l)
	}
	c.Refused("GET", "/v1/shelf/gone.gcode/by-layer", "", 404, "there is no such file on the shelf")
	p := c.Refused("GET", "/v1/shelf/gone.gcode", "", 404, "there is no such file on the shelf")
	if p.Detail != `"gone.gcode"` {
		t.Errorf("the detail is %s", p.Detail)
	}
	c.Refused("DELETE", "/v1/shelf/gone.gcode", "", 404, "there is no such file on the shelf")
	if w := c.Call("DELETE", "/v1/shelf/cap.gcode", "", nil); w.Code != http.StatusNoContent {
		t.Errorf("removed: %d", w.Code)
	}
	os.WriteFile(filepath.Join(b.dir, "cap.gcode"), []byte("G28\nG1 X1\n"), 0o600)
	w := c.Call("GET", "/v1/shelf/cap.gcode/content", "", nil, "Range", "bytes=4-5")
	if w.Code != http.StatusPartialContent || w.Body.String() != "G1" || w.Header().Get("ETag") != `"abc"` {
		t.Errorf("%d %q, ETag %s", w.Code, w.Body, w.Header().Get("ETag"))
	}
	if w := c.Call("GET", "/v1/shelf/cap.gcode/content", "", nil, "If-None-Match", `"abc"`); w.Code != http.StatusNotModified {
		t.Errorf("asked for again: %d", w.Code)
	}
}

func TestTheListSaysWhatBecameOfFilesAndWhichNobodyUses(t *testing.T) {
	c := mount(t, "", &board{})
	var list api.Shelf
	c.Call("GET", "/v1/shelf", "", &list)
	if h := list.Files[0].History; h.Runs != 3 || h.Finished != 2 || h.State != "broken" || h.Last == nil {
		t.Errorf("the first was run: %+v", h)
	}
	if d := list.Disk; d.UsedBytes != 5 || d.FreeBytes != 6 || d.TotalBytes != 20 || !slices.Equal(d.Unused, []string{"old.gcode", "knob.gcode"}) {
		t.Errorf("the disk: %+v", d)
	}
}

func TestAFileGetsAnotherNameOrTags(t *testing.T) {
	b := &board{}
	c := mount(t, "", b)
	var f api.File
	if c.Call("PATCH", "/v1/shelf/cap.gcode", `{"name":"lid.gcode"}`, &f); f.Name != "lid.gcode" || b.changed.Tags != nil {
		t.Errorf("renamed: %+v, %+v", f, b.changed)
	}
	if c.Call("PATCH", "/v1/shelf/cap.gcode", `{"tags":[]}`, &f); b.changed.Tags == nil || b.changed.Name != nil {
		t.Errorf("without tags: %+v", b.changed)
	}
	if w := c.Call("PATCH", "/v1/shelf/none.gcode", `{"tags":["a"]}`, nil); w.Code != http.StatusNotFound {
		t.Errorf("one that is not there: %d", w.Code)
	}
	if w := mount(t, "send", b).Call("PATCH", "/v1/shelf/cap.gcode", `{"name":"x.gcode"}`, nil); w.Code != http.StatusForbidden {
		t.Errorf("by who may not send: %d", w.Code)
	}
}

func TestHowFarTheSurveyIsIsSaidAndWhatItHasDrawnIsServed(t *testing.T) {
	b := &board{}
	c := mount(t, "", b)
	var f api.File
	if c.Call("GET", "/v1/shelf/big.gcode", "", &f); f.Survey != (api.Survey{State: "surveying", Share: 0.4}) || f.Extent != nil {
		t.Errorf("a file that is being surveyed: %+v", f)
	}
	if err := os.WriteFile(filepath.Join(b.dir, "cap.gcode"), []byte("drawn"), 0o600); err != nil {
		t.Fatal(err)
	}
	w := c.Call("GET", "/v1/shelf/cap.gcode/picture?size=64", "", nil)
	if tag := w.Header().Get("ETag"); w.Code != http.StatusOK || w.Body.String() != "drawn" || w.Header().Get("Content-Type") != "image/png" || tag != `"abc-`+survey.Version+`-64"` {
		t.Errorf("its picture: %d %q %s", w.Code, w.Body, tag)
	}
	w = c.Call("GET", "/v1/shelf/cap.gcode/layers", "", nil)
	if w.Code != http.StatusOK || w.Header().Get("ETag") != `"abc-`+survey.Version+`-layers"` || w.Header().Get("Accept-Ranges") != "bytes" {
		t.Errorf("its layers: %d %v", w.Code, w.Header())
	}
	for path, want := range map[string]int{"/v1/shelf/big.gcode/picture": 204, "/v1/shelf/none.gcode/picture": 404, "/v1/shelf/cap.gcode/picture?size=x": 400, "/v1/shelf/cap.gcode/picture?size=-1": 400} {
		if w := c.Call("GET", path, "", nil); w.Code != want {
			t.Errorf("%s: %d %s, want %d", path, w.Code, w.Body, want)
		}
	}
}
