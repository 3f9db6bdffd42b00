package wire_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/bounds"
	corewire "diathermon/internal/core/wire"
	"diathermon/internal/host/capacity"
	"diathermon/internal/host/part"
	"diathermon/internal/host/traffic"
	"diathermon/internal/web/webtest"
	"diathermon/internal/web/wire"
)

// line is a wire that answers nothing.
type line struct {
	said  []string
	until time.Duration
	err   error
}

func (l *line) Say(ctx context.Context, text string) (part.Said, error) {
	l.said = append(l.said, text)
	end, _ := ctx.Deadline()
	l.until = time.Until(end)
	return part.Said{Line: text, Taken: true}, l.err
}
func (l *line) Since(seq uint64, limit int) traffic.Lines {
	return traffic.Lines{{Seq: seq + 1, Text: fmt.Sprint(limit), Sent: true}}
}
func (l *line) Measure(context.Context) error { return capacity.ErrMeasure }
func (l *line) Recording(context.Context) (traffic.Recording, error) {
	return traffic.Recording{}, part.ErrClosed
}

func TestALineIsSaidAndItsAnswerIsAList(t *testing.T) {
	l := &line{}
	c := webtest.Mount(t, "", wire.Area{Hand: l, Traffic: l, Capacity: l, Recorder: l})
	var said api.Said
	if c.Call("POST", "/v1/wire", `{"line":"M114"}`, &said); said.Line != "M114" || !said.Taken || said.Reply == nil || l.said[0] != "M114" || l.until < 50*time.Second {
		t.Errorf("%+v, waited for %s", said, l.until)
	}
	var w api.Wire
	if c.Call("GET", "/v1/wire?since=7", "", &w); w.Lines[0].Seq != 8 || w.Lines[0].Text != "200" || !w.Lines[0].Sent {
		t.Errorf("%+v", w)
	}
	if code := c.Call("GET", "/v1/wire?limit=4001", "", nil).Code; code != 422 {
		t.Errorf("too many lines: %d", code)
	}
	l.err = fmt.Errorf("%w: M500 stores settings", bounds.ErrLine)
	c.Refused("POST", "/v1/wire", `{"line":"M500"}`, 422, "this line cannot be said")
	c.Refused("POST", "/v1/wire/measure", "", 409, "it cannot be measured now what the printer can hold")
}

func TestWhatIsTold(t *testing.T) {
	at := time.Date(2026, 3, 1, 20, 0, 0, 0, time.FixedZone("", 3600))
	if got := wire.Event(corewire.Message{At: at, Kind: corewire.Wrong, Text: "x"}); got.(api.Message).Kind != string(corewire.Wrong) || got.(api.Message).At.Hour() != 19 {
		t.Errorf("%+v", got)
	}
	if got := wire.Event(7); got != nil {
		t.Errorf("of another's: %+v", got)
	}
}
