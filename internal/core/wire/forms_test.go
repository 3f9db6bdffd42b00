package wire_test

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
)

var rewrite = flag.Bool("rewrite", false, "write the table of forms into docs/wire.md anew")

// kinds are what persons call them.
var kinds = map[wire.Kind]string{
	wire.Other: "words", wire.OK: "ok", wire.Resend: "request", wire.Skip: "skipped", wire.Busy: "at work", wire.Idle: "idle",
	wire.Start: "start", wire.Error: "error", wire.Fatal: "the end", wire.Action: "action", wire.Report: "report",
}

func TestEveryFormIsReadAsItsTableSays(t *testing.T) {
	for _, f := range wire.Forms {
		lines := strings.Split(f.Says, " | ")
		last := lines[len(lines)-1]
		got := wire.Sort([]byte(last))
		if got.Kind != f.Kind || got.Number != f.Number || got.Slots != f.Slots {
			t.Errorf("%q is read as %s, line %d, %d slots; want %s, %d, %d", last, kinds[got.Kind], got.Number, got.Slots, kinds[f.Kind], f.Number, f.Slots)
		}
		for _, line := range lines {
			switch {
			case strings.HasPrefix(f.Answer, "temperatures") && strings.Contains(line, ":") && !strings.Contains(line, "nan"):
				if readings := heat.ParseReport(line); len(readings) == 0 || readings[0].Actual < 20 {
					t.Errorf("%q tells %v", line, readings)
				}
			case f.Answer == "a place":
				if at, ok := wire.ParsePosition(line); !ok || at != [4]float64{10, 0, 5, 0} {
					t.Errorf("%q tells %v, %v", line, at, ok)
				}
			case f.Answer == "an unknown command" && !wire.IsUnknown(line):
				t.Errorf("%q is not understood", line)
			}
		}
		if f.Answer == "what it is" && !strings.Contains(f.Says, "Unknown") {
			if got := wire.ParseFirmware(lines); !strings.HasPrefix(got.Name, "Own") || got.Machine != "Vesper" {
				t.Errorf("%q tells %+v", f.Says, got)
			}
		}
	}
}

// TestTheFormsStandInTheDocs holds docs/wire.md to the table; -rewrite brings it up to date.
func TestTheFormsStandInTheDocs(t *testing.T) {
	const path = "../../../docs/wire.md"
	var table strings.Builder
	table.WriteString("| answer | for example | read as | what is made of it |\n|---|---|---|---|\n")
	before := ""
	for _, f := range wire.Forms {
		answer := f.Answer
		if answer == before {
			answer = ""
		}
		before = f.Answer
		says := strings.ReplaceAll(strings.Trim(fmt.Sprintf("%q", f.Says), `"`), `\"`, `"`)
		fmt.Fprintf(&table, "| %s | `%s` | %s | %s |\n", answer, strings.ReplaceAll(says, " | ", "` then `"), kinds[f.Kind], f.Means)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	const begin, end = "<!-- forms -->\n", "<!-- end of forms -->"
	head, rest, ok := strings.Cut(string(text), begin)
	_, tail, closed := strings.Cut(rest, end)
	if !ok || !closed {
		t.Fatalf("%s has no place for the table", path)
	}
	want := head + begin + table.String() + end + tail
	switch {
	case want == string(text):
	case *rewrite:
		if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	default:
		t.Errorf("the table in %s is not that of forms.go: go test ./internal/core/wire -run TheFormsStand -rewrite", path)
	}
}
