package bench_test

import (
	"context"
	"fmt"
	"net/http"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/position"
	"diathermon/internal/host/printing"
	"diathermon/internal/host/talk"
	"diathermon/internal/port"
	"diathermon/internal/web/bench"
	"diathermon/internal/web/webtest"
)

// vesper is a host at one moment.
type vesper struct {
	now    host.Bench
	refuse error
}

func (v *vesper) Bench(context.Context) (host.Bench, error) { return v.now, nil }
func (v *vesper) Halt(context.Context) error                { return v.refuse }
func (v *vesper) Reconnect(context.Context) error           { return v.refuse }

func TestEverythingOfOneMoment(t *testing.T) {
	v := &vesper{now: host.Bench{Printer: machine.Printer{Name: "Vesper", Width: 230, Tools: 1}}}
	c := webtest.Mount(t, "", bench.Area{Host: v, Link: v, Ports: func() []port.Port {
		return []port.Port{{Path: "/dev/serial/by-id/a", Device: "/dev/ttyUSB0"}, {Path: "/dev/serial/by-id/b", Device: "/dev/ttyUSB1"}}
	}})
	var b api.Bench
	if c.Call("GET", "/v1/bench", "", &b); b.Printer.Name != "Vesper" || b.Firmware != nil || b.Run != nil || b.Position.Known || b.Heaters == nil || b.Alarms == nil {
		t.Errorf("before anything is known: %+v", b)
	}
	v.now.Link = talk.Link{State: talk.LinkState(wire.Live), Device: "/dev/ttyUSB1"}
	v.now.Firmware = wire.Firmware{Name: "stand-in"}
	v.now.HaltsAtOnce = true
	v.now.Position = position.Now{Known: true, Homed: [3]bool{true, true, false}, Where: [4]float64{0, 0, 0, 4}, Place: [4]float64{1, 2, 3, 4}}
	v.now.Heat.Heaters = []heating.HeaterNow{
		{Sample: heat.Sample{At: time.Now(), Reading: heat.Reading{Heater: "nozzle0", Actual: 200, Setpoint: 210, HasDuty: true, Duty: 0.4}}, State: heat.Heating, Left: time.Minute},
		{Sample: heat.Sample{Reading: heat.Reading{Heater: heat.Bed}}, State: heat.Off, Soaking: &heat.SoakState{There: true, Left: -1}},
	}
	v.now.Run = &printing.Now{Record: run.Record{ID: "r1", State: run.Warming}, Left: time.Hour, Warming: time.Minute}
	c.Call("GET", "/v1/bench", "", &b)
	if !b.Firmware.HaltsAtOnce || b.Position.Homed != "XY" || b.Position.E != 4 || b.Run.Progress.LeftSeconds != 3600 || b.Run.Progress.WarmSeconds != 60 || !b.Run.Going {
		t.Errorf("%+v, %+v", b, b.Run)
	}
	if n, bed := b.Heaters[0], b.Heaters[1]; *n.Actual != 200 || *n.Duty != 0.4 || n.ReadySeconds != 60 || bed.Actual != nil || bed.Duty != nil || bed.Soak.LeftSeconds != nil || !bed.Soak.There {
		t.Errorf("%+v, %+v", n, bed)
	}
	var ports api.Ports
	if c.Call("GET", "/v1/bench/ports", "", &ports); ports.Ports[0].Ours || !ports.Ports[1].Ours {
		t.Errorf("%+v", ports)
	}
	if events := bench.Events(v.now); len(events) != 9 || events[0].(api.Link).State != "live" {
		t.Errorf("%d events: %+v", len(events), events)
	}
}

func TestWhatCannotBeDoneIsSaid(t *testing.T) {
	v := &vesper{}
	c := webtest.Mount(t, "", bench.Area{Host: v, Link: v})
	if w := c.Call("POST", "/v1/halt", "", nil); w.Code != http.StatusNoContent {
		t.Errorf("halted: %d", w.Code)
	}
	if w := c.Call("POST", "/v1/bench/reconnect", "", nil); w.Code != http.StatusAccepted {
		t.Errorf("opened anew: %d", w.Code)
	}
	v.refuse = fmt.Errorf("%w, and no halt reaches it: the cable is out", run.ErrLive)
	if p := c.Refused("POST", "/v1/halt", "", 503, "the printer is not answering"); p.Detail != "the printer is not answering, and no halt reaches it: the cable is out" {
		t.Errorf("the detail is %q", p.Detail)
	}
	v.refuse = bounds.ErrBusy
	c.Refused("POST", "/v1/bench/reconnect", "", 409, "a run is going on")
}
