package remarks_test

import (
	"slices"
	"testing"

	"diathermon/internal/core/wire"
	"diathermon/internal/host/parttest"
	"diathermon/internal/host/remarks"
)

func TestWhatIsMeantForAPersonIsPassedOn(t *testing.T) {
	loop, kept := parttest.NewLoop(t)
	r := remarks.New(loop)
	for _, said := range []wire.Reply{
		{Kind: wire.Fatal, Text: "Printer halted. kill() called!"}, {Kind: wire.Error, Text: "Heating failed"}, {Kind: wire.Error, Text: "checksum mismatch, Last Line: 7"},
		{Kind: wire.Action, Text: "pause"}, {Kind: wire.Other, Text: "echo:Insert filament\x07"}, {Kind: wire.Other, Text: "echo:"}, {Kind: wire.Other, Text: "FIRMWARE"}, {Kind: wire.OK, Text: "ok"},
	} {
		if r.Hear(&wire.Event{Kind: wire.Heard, Reply: said}) {
			t.Errorf("%q goes no further", said.Text)
		}
	}
	r.Hear(&wire.Event{Kind: wire.Heard, Own: true, Reply: wire.Reply{Kind: wire.Fatal, Text: "the conversation's own"}})
	want := []string{string(wire.Stopped) + ": Printer halted. kill() called!", string(wire.Wrong) + ": Heating failed", string(wire.Wanted) + ": pause", string(wire.Told) + ": Insert filament\uFFFD"}
	if !slices.Equal(kept.Messages, want) {
		t.Errorf("%q, want %q", kept.Messages, want)
	}
}
