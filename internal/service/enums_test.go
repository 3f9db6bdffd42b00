package service

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// sent names, for every enumeration of the document, the types whose constants the
// service sends in it.
var sent = map[string][]string{
	"Account.role":            {"core/access.Role"},
	"ChangeAccount.role":      {"core/access.Role"},
	"MakeAccount.role":        {"core/access.Role"},
	"Me.role":                 {"core/access.Role"},
	"Pairing.kind":            {"core/access.Kind"},
	"TokenInfo.kind":          {"core/access.Kind"},
	"Acknowledgement.verdict": {"core/heat.Verdict"},
	"Alarm.action":            {"core/heat.Action"},
	"Alarm.verdict":           {"core/heat.Verdict"},
	"Alarm.guard":             {"core/heat.GuardName"},
	"Guard.bound":             {"core/heat.Action"},
	"Guard.guard":             {"core/heat.GuardName"},
	"Guard.may":               {"core/heat.Action"},
	"Guard.most":              {"core/heat.Action"},
	"Guard.next":              {"core/heat.Action"},
	"GuardBound.bound":        {"core/heat.Action"},
	"Remark.action":           {"core/heat.Action"},
	"Remark.guard":            {"core/heat.GuardName"},
	"Bed.state":               {"core/bed.State"},
	"Changed.what":            {"api.Thing"},
	"Check.kind":              {"core/preflight.Kind"},
	"Check.level":             {"core/bounds.Level"},
	"Finding.level":           {"core/bounds.Level"},
	"File.limits":             {"core/toolpath.LimitsOf"},
	"Survey.state":            {"facts.State"},
	"Flow.watch":              {"core/heat.FlowAction"},
	"Guide.state":             {"core/machine.GuideState"},
	"HeatEpisode.kind":        {"core/heat.EpisodeKind"},
	"HeatFinding.what":        {"core/heat.Aspect"},
	"HeatMark.kind":           {"core/heat.MarkKind"},
	"Heater.state":            {"core/heat.State"},
	"Holds.how":               {"host/capacity.How"},
	"Link.state":              {"core/wire.State", "host/talk.LinkState"},
	"Message.kind":            {"core/wire.MessageKind"},
	"CallBrowser.kinds":       {"core/notice.Kind"},
	"Notice.kind":             {"core/notice.Kind"},
	"Output.kind":             {"core/machine.OutputKind"},
	"Performance.state":       {"core/routine.State"},
	"PerformanceEntry.kind":   {"core/routine.EntryKind"},
	"RoutineParameter.type":   {"core/routine.Type"},
	"Rehearsal.state":         {"rehearsal.State"},
	"RehearsalAlarm.action":   {"core/heat.Action"},
	"RehearsalAlarm.guard":    {"core/heat.GuardName"},
	"RehearsalReport.limits":  {"core/toolpath.LimitsOf"},
	"RehearsalState.state":    {"core/run.State"},
	"Run.may":                 {"core/run.Act"},
	"Run.state":               {"core/run.State"},
	"SayBed.state":            {"core/bed.State"},
	"Stored.outcome":          {"shelf.Outcome"},
	"Traffic.kind":            {"host/traffic.Kind"},
	"WarmUp.order":            {"core/heat.Order"},
}

// constants are the values of all constants of a string type, by the package's own
// source, so that none can be forgotten.
func constants(t *testing.T, name string) []string {
	t.Helper()
	dir, typ, _ := strings.Cut(name, ".")
	paths, err := filepath.Glob(filepath.Join("..", dir, "*.go"))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, path := range paths {
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			v, is := n.(*ast.ValueSpec)
			if !is {
				return true
			}
			if of, is := v.Type.(*ast.Ident); !is || of.Name != typ {
				return true
			}
			for _, value := range v.Values {
				if l, is := value.(*ast.BasicLit); is && l.Kind == token.STRING {
					text, err := strconv.Unquote(l.Value)
					if err != nil {
						t.Fatal(err)
					}
					out = append(out, text)
				}
			}
			return true
		})
	}
	if len(out) == 0 {
		t.Errorf("%s has no constants", name)
	}
	return out
}

func TestTheDocumentHasEveryValueThatTheServiceSends(t *testing.T) {
	text, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	type property struct {
		Enum  []string
		Items *property
	}
	var d struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]property
			}
		}
	}
	if err := json.Unmarshal(text, &d); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for schema, s := range d.Components.Schemas {
		for name, p := range s.Properties {
			if p.Items != nil {
				p = *p.Items
			}
			if len(p.Enum) == 0 {
				continue
			}
			field := fmt.Sprintf("%s.%s", schema, name)
			seen[field] = true
			var want []string
			for _, typ := range sent[field] {
				want = append(want, constants(t, typ)...)
			}
			slices.Sort(want)
			slices.Sort(p.Enum)
			if !slices.Equal(p.Enum, want) {
				t.Errorf("%s is one of %q in the document, and the service sends one of %q", field, p.Enum, want)
			}
		}
	}
	for _, field := range slices.Sorted(maps.Keys(sent)) {
		if !seen[field] {
			t.Errorf("%s is no enumeration in the document", field)
		}
	}
}
