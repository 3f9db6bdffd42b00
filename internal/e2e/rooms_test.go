package e2e

import (
	"encoding/json"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

const module = "diathermon/"

// doors says which of our rooms each room may enter. A room that is missing here
// may enter none. docs/architecture.md draws them.
var doors = map[string][]string{
	"internal/core/jog":       {"internal/core"},
	"internal/core/routine":   {"internal/core"},
	"internal/core/motion":    {"internal/core"},
	"internal/core/run":       {"internal/core"},
	"internal/core/toolpath":  {"internal/core"},
	"internal/core/wire":      {"internal/core"},
	"internal/core/queue":     {"internal/core/run"},
	"internal/core/bed":       {},
	"internal/core/trim":      {"internal/core"},
	"internal/core/stock":     {"internal/core/gcode", "internal/core/heat", "internal/core/settable"},
	"internal/core/preflight": {"internal/core"},
	"internal/core/bounds":    {"internal/core"},
	"internal/core/machine":   {"internal/core"},
	"internal/core/layers":    {"internal/core"},
	"internal/core/picture":   {"internal/core"},

	"internal/port":            {},
	"internal/host":            {"internal/core", "internal/port"},
	"internal/host/part":       {"internal/core"},
	"internal/host/parttest":   {"internal/core", "internal/host/part"},
	"internal/host/traffic":    {"internal/core", "internal/host/part"},
	"internal/host/position":   {"internal/core", "internal/host/part"},
	"internal/host/talk":       {"internal/core", "internal/host/part"},
	"internal/host/remarks":    {"internal/core", "internal/host/part"},
	"internal/host/settings":   {"internal/core", "internal/host/part"},
	"internal/host/heating":    {"internal/core", "internal/host/part", "internal/host/position"},
	"internal/host/capacity":   {"internal/core", "internal/host/part", "internal/host/talk"},
	"internal/host/printing":   {"internal/core", "internal/digest", "internal/host/heating", "internal/host/occupancy", "internal/host/part", "internal/host/position", "internal/host/talk", "internal/host/traffic", "internal/idle"},
	"internal/host/moving":     {"internal/core", "internal/host/part", "internal/host/talk", "internal/host/position", "internal/host/heating", "internal/host/printing"},
	"internal/host/occupancy":  {"internal/core", "internal/host/part"},
	"internal/host/outputs":    {"internal/core", "internal/host/part"},
	"internal/host/performing": {"internal/core", "internal/host/heating", "internal/host/moving", "internal/host/occupancy", "internal/host/outputs", "internal/host/part", "internal/host/position", "internal/host/printing", "internal/host/talk"},
	"internal/routines":        {"internal/core", "internal/durable"},
	"internal/host/byhand":     {"internal/core", "internal/host/part", "internal/host/talk", "internal/host/printing"},

	"internal/chart":          {"internal/core"},
	"internal/heatlog":        {"internal/core", "internal/durable"},
	"internal/hindsight":      {"internal/core"},
	"internal/digest":         {},
	"internal/seal":           {"internal/durable"},
	"internal/qrcode":         {},
	"internal/core/notice":    {"internal/core/bed", "internal/core/run"},
	"internal/notices":        {"internal/core/notice", "internal/durable"},
	"internal/web/notices":    {"internal/api", "internal/core", "internal/notices", "internal/web/desk", "internal/web/guard"},
	"internal/people":         {"internal/core", "internal/durable"},
	"internal/queue":          {"internal/core", "internal/durable", "internal/host/printing"},
	"internal/doors/announce": {},
	"internal/doors/dav":      {"internal/api", "internal/core", "internal/doors", "internal/durable", "internal/shelf"},
	"internal/doors/folder":   {"internal/core", "internal/doors", "internal/shelf"},
	"internal/doors":          {"internal/core", "internal/host/printing", "internal/shelf"},
	"internal/history":        {"internal/core", "internal/digest", "internal/samples", "internal/simprinter"},
	"internal/journal":        {"internal/core", "internal/durable"},
	"internal/records":        {"internal/core", "internal/durable"},
	"internal/stock":          {"internal/core", "internal/durable"},
	"internal/shelf":          {"internal/core", "internal/digest", "internal/durable"},
	"internal/survey":         {"internal/core", "internal/durable", "internal/idle", "internal/shelf"},
	"internal/rehearsal":      {"internal/core", "internal/digest", "internal/idle", "internal/simprinter"},
	"internal/idle":           {"internal/lean"},
	"internal/lean":           {},
	"internal/api/ops":        {"internal/api", "internal/core/access"},
	"internal/facts":          {"internal/api", "internal/core"},
	"internal/inspect":        {"internal/api", "internal/core", "internal/digest", "internal/facts"},
	"internal/samples":        {},
	"internal/web":            {"internal/api", "internal/doors/dav"},
	"internal/web/desk":       {"internal/api", "internal/core/access", "internal/core/settable"},
	"internal/web/webtest":    {"internal/api", "internal/web/desk"},
	"internal/web/guard":      {"internal/api", "internal/core", "internal/gate", "internal/people", "internal/web/desk"},
	"internal/web/live":       {"internal/api", "internal/host", "internal/web/desk", "internal/web/guard"},
	"internal/web/heat":       {"internal/api", "internal/chart", "internal/core", "internal/hindsight", "internal/host/heating", "internal/web/desk", "internal/web/guard"},
	"internal/web/people":     {"internal/api", "internal/core", "internal/people", "internal/web/desk", "internal/web/guard"},
	"internal/web/setup":      {"internal/api", "internal/core", "internal/doors/dav", "internal/doors/folder", "internal/host", "internal/qrcode", "internal/seal", "internal/web/desk", "internal/web/guard"},
	"internal/web/queue":      {"internal/api", "internal/core", "internal/facts", "internal/host/occupancy", "internal/host/printing", "internal/queue", "internal/web/desk", "internal/web/guard", "internal/web/runs"},
	"internal/web/runs":       {"internal/api", "internal/core", "internal/facts", "internal/host/printing", "internal/web/desk", "internal/web/guard"},
	"internal/web/shelf":      {"internal/api", "internal/core", "internal/doors", "internal/facts", "internal/host/printing", "internal/rehearsal", "internal/shelf", "internal/survey", "internal/web/desk", "internal/web/guard", "internal/web/heat", "internal/web/runs"},
	"internal/web/motion":     {"internal/api", "internal/core", "internal/host/moving", "internal/web/desk"},
	"internal/web/slots":      {"internal/api", "internal/core", "internal/web/desk", "internal/web/guard"},
	"internal/web/outputs":    {"internal/api", "internal/host/outputs", "internal/web/desk", "internal/web/guard"},
	"internal/web/routines":   {"internal/api", "internal/core", "internal/host/performing", "internal/routines", "internal/web/desk", "internal/web/guard"},
	"internal/web/wire":       {"internal/api", "internal/core", "internal/host", "internal/web/desk"},
	"internal/web/bench":      {"internal/api", "internal/core", "internal/host", "internal/port", "internal/web/desk", "internal/web/guard", "internal/web/heat", "internal/web/motion", "internal/web/outputs", "internal/web/routines", "internal/web/runs"},

	"internal/client":  {"internal/api", "internal/core/legible", "internal/digest", "internal/seal"},
	"internal/service": {"internal/api", "internal/awake", "internal/core", "internal/doors", "internal/durable", "internal/gate", "internal/heatlog", "internal/hindsight", "internal/history", "internal/host", "internal/idle", "internal/journal", "internal/lean", "internal/notices", "internal/people", "internal/port", "internal/qrcode", "internal/queue", "internal/records", "internal/rehearsal", "internal/routines", "internal/seal", "internal/shelf", "internal/stock", "internal/survey", "internal/web"},
	"internal/cli":     {"internal/api", "internal/client", "internal/core/access", "internal/core/legible", "internal/core/machine", "internal/core/stock", "internal/core/trim", "internal/doors/announce", "internal/durable", "internal/facts", "internal/inspect", "internal/qrcode", "internal/quiet", "internal/samples", "internal/service", "internal/shelf", "internal/simprinter"},
	"cmd/diathermon":   {"internal/cli"},
}

// pkg is what go list tells of a package.
type pkg struct {
	ImportPath string
	Imports    []string
	Standard   bool
}

func TestRoomsAreEnteredThroughTheirDoors(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Standard", module+"...").Output()
	if err != nil {
		t.Fatal(err)
	}
	rooms := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := d.Decode(&p); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		rooms++
		room := strings.TrimPrefix(p.ImportPath, module)
		for _, i := range p.Imports {
			to, ours := strings.CutPrefix(i, module)
			switch {
			case ours && !slices.ContainsFunc(doors[room], func(d string) bool { return to == d || strings.HasPrefix(to, d+"/") }) && !strings.HasPrefix(to, room+"/"):
				t.Errorf("%s imports %s: no arrow points there", room, to)
			case !ours && strings.HasPrefix(room, "internal/core/") && strings.Contains(i, ".") && !strings.HasPrefix(i, "gonum.org/"):
				t.Errorf("%s imports %s: the core knows the standard library and gonum", room, i)
			case strings.HasPrefix(room, "internal/core/") && slices.Contains([]string{"os", "net", "net/http", "database/sql", "log", "log/slog", "time/tzdata", "os/exec", "syscall"}, i):
				t.Errorf("%s imports %s: the core has no file, socket, database or log", room, i)
			}
		}
	}
	if rooms < 20 {
		t.Errorf("only %d rooms were found", rooms)
	}
	for _, room := range strings.Fields("access queue gcode wire machine motion toolpath layers picture heat run preflight mesh stock") {
		if !strings.Contains(string(out), module+"internal/core/"+room+`"`) {
			t.Errorf("the core has no room %s", room)
		}
	}
}

// TestEveryPackageIsNamed in docs/packages.md, with its version and what it is for.
func TestEveryPackageIsNamed(t *testing.T) {
	read := func(path string) string {
		b, err := os.ReadFile(filepath.Join("../..", path))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	used := map[string]string{}
	for _, m := range regexp.MustCompile(`(?m)^\t(\S+\.\S+/\S+|\S+\.\S+) (v\S+)`).FindAllStringSubmatch(read("go.mod"), -1) {
		used[m[1]] = m[2]
	}
	var console struct{ Dependencies, DevDependencies map[string]string }
	if err := json.Unmarshal([]byte(read("console/package.json")), &console); err != nil {
		t.Fatal(err)
	}
	maps.Copy(used, console.Dependencies)
	maps.Copy(used, console.DevDependencies)
	named := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\| ([^|]*\\S) \\| (\\S+) \\|").FindAllStringSubmatch(read("docs/packages.md"), -1) {
		named[m[1]] = m[3]
	}
	if !maps.Equal(used, named) {
		for name, version := range used {
			if named[name] != version {
				t.Errorf("%s is used in %s and named in %q", name, version, named[name])
			}
		}
		for name := range named {
			if used[name] == "" {
				t.Errorf("%s is named and not used", name)
			}
		}
	}
	if len(used) < 60 {
		t.Errorf("only %d are found", len(used))
	}
}
