package talk_test

import (
	"errors"
	"log/slog"
	"testing"

	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
	"diathermon/internal/host/parttest"
	"diathermon/internal/host/position"
	"diathermon/internal/host/talk"
)

// run is one that goes on.
type run struct{}

func (run) Earlier() wire.Earlier { return wire.Earlier{} }
func (run) Feed()                 {}
func (run) Jot([]wire.Event)      {}
func (run) Busy() bool            { return true }

// port takes everything.
type port struct{}

func (port) Write([]byte) bool { return true }
func (port) Urge([]byte)       {}

// heaters want to be turned off when they hear that the printer is out of reach, as
// those of a run do that is just ending.
type heaters struct {
	part.Plain
	line part.Line
	live bool
	lost error
}

func (h *heaters) Hear(event any) bool {
	if _, cut := event.(part.Cut); cut {
		h.live = h.line.Live()
		h.line.Urge("M108")
		h.line.Say("M104 S0", func(_ []string, err error) { h.lost = err })
	}
	return false
}

func TestNothingIsSaidToAPortThatIsGone(t *testing.T) {
	records := &parttest.Records{}
	loop := part.NewLoop(records, records, slog.New(slog.DiscardHandler), nil)
	where := position.New(loop)
	line := talk.New(talk.Config{Baud: 115200}, loop, records, where)
	line.Attend(run{})
	h := &heaters{line: line}
	loop.Join(where, line, h)
	line.Begin(port{})
	line.SetLink(talk.LinkState(wire.Live), "the printer answers", "port")
	if !line.Live() {
		t.Fatal("the link is live, and the printer is said not to answer")
	}
	line.End("the cable is out") // before anybody has told of the link
	if h.live {
		t.Error("the port is gone, and the printer is said to answer")
	}
	if !errors.Is(h.lost, part.ErrLost) {
		t.Errorf("what was said to no port ended with %v", h.lost)
	}
}
