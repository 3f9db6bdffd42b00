package service

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/BurntSushi/toml"
	"github.com/adrg/xdg"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/legible"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
	"diathermon/internal/host"
	"diathermon/internal/notices"
	"diathermon/internal/web/guard"
)

// Config is what a service is told by its command line, its environment and
// diathermon.toml.
type Config struct {
	Device   string  `toml:"device"`   // path of the serial port; empty: the only one there
	Baud     int     `toml:"baud"`     // bits per second; 0: find it
	Listen   string  `toml:"listen"`   // address of the HTTP side
	Announce bool    `toml:"announce"` // it is announced on the network, if others reach it there
	Data     string  `toml:"data"`     // folder of everything the service keeps
	Database string  `toml:"database"` // postgres://…; empty: a cluster of its own
	Printer  Printer `toml:"printer"`
	Hold     Hold    `toml:"hold"`
	PickUp   PickUp  `toml:"pick_up"`
	Wire     Wire    `toml:"wire"`
	Heat     Heat    `toml:"heat"`
	Folder   Folder  `toml:"folder"`
	Web      Web     `toml:"web"`

	Pace      float64 `toml:"-"` // how many times faster the clock runs of a stand-in; 0 is 1
	Unguarded bool    `toml:"-"` // no guard looks at the heaters: for a stand-in whose clock runs so fast that no real heater is like it

	Unmeasured bool `toml:"-"` // it is not measured by itself what the printer can hold

	WithdrawTokens bool `toml:"-"` // at the start every token is withdrawn, and the keeper gets a new one

	ClearBed bool `toml:"-"` // the bed is known to be clear at the first start: a stand-in's

	Named     map[string]bool `toml:"-"` // keys that the configuration file or the command line has named: they decide before Setup
	Described bool            `toml:"-"` // nobody needs to be led through describing the printer

	PushBy notices.Client `toml:"-"` // goes to push services, which need not speak TLS; nil: one of our own, and they do

	Past float64 `toml:"-"` // how many times faster the clock runs of the stand-in whose past is made up; 0: none is
}

// Web is the configuration's [web]: what stands before the host, and around its console.
type Web struct {
	Proxies  []string `toml:"proxies"`   // addresses whose X-Forwarded headers are believed
	Path     string   `toml:"path"`      // below which it is seen through them
	Names    []string `toml:"names"`     // by which it is reached, besides those of its own network; *.name.example for all below
	FramedBy []string `toml:"framed_by"` // origins whose pages may frame the console

	Certificate    string `toml:"certificate"`     // path of a PEM file: the host speaks TLS with it
	Key            string `toml:"key"`             // path of its key
	OwnCertificate bool   `toml:"own_certificate"` // it speaks TLS with one that it makes itself
}

// Folder is the configuration's [folder]: one on the host's disk from which files are
// taken in.
type Folder struct {
	Path  string `toml:"path"`  // empty: none is watched
	Start bool   `toml:"start"` // what is put into its folders print and queue is started
}

// Heat is the configuration's [heat].
type Heat struct {
	Keep      time.Duration `toml:"keep"`       // how long readings are kept; 0: for ever
	UnusedFor time.Duration `toml:"unused_for"` // how long heaters stay on while nobody uses them; 0: for ever
	Flow      string        `toml:"flow"`       // what is done when no filament seems to flow: off, tell or hold
	PartOff   float64       `toml:"part_off"`   // °C of the bed at which a part comes off
}

// Hold is the configuration's [hold]: how the nozzle leaves a part and comes
// back. Lengths are mm, feeds mm/s.
type Hold struct {
	Retract      float64       `toml:"retract"`
	Lift         float64       `toml:"lift"`
	Prime        float64       `toml:"prime"`
	TravelFeed   float64       `toml:"travel_feed"`
	LiftFeed     float64       `toml:"lift_feed"`
	FilamentFeed float64       `toml:"filament_feed"`
	NozzleHotFor time.Duration `toml:"nozzle_hot_for"` // 0: for ever
}

// PickUp is the configuration's [pick_up].
type PickUp struct {
	ByHand     bool          `toml:"by_hand"`      // a run waits for a person even where the printer kept its place
	BedWarmFor time.Duration `toml:"bed_warm_for"` // 0: it is not kept warm
}

// Wire is the configuration's [wire]: what the printer can hold, where it does
// not tell.
type Wire struct {
	ReceiveBuffer int    `toml:"receive_buffer"` // bytes; 0: as it tells
	CommandSlots  int    `toml:"command_slots"`  // 0: as it tells
	Window        string `toml:"window"`         // auto, single or wide
}

// Printer is the configuration's [printer].
type Printer struct {
	Name             string   `toml:"name"`
	Colour           string   `toml:"colour"` // #rrggbb by which it is told from its neighbours; empty: none
	Width            float64  `toml:"width"`  // mm
	Depth            float64  `toml:"depth"`  // mm
	Height           float64  `toml:"height"` // mm
	Tools            int      `toml:"tools"`
	Slots            int      `toml:"slots"`             // where filament is loaded; 0: as many as tools
	NozzleDiameter   float64  `toml:"nozzle_diameter"`   // mm
	FilamentDiameter float64  `toml:"filament_diameter"` // mm
	FilamentDensity  float64  `toml:"filament_density"`  // g/cm³
	FilamentPrice    float64  `toml:"filament_price"`    // of a kilogram; 0: not said
	Currency         string   `toml:"currency"`
	Limits           Limits   `toml:"limits"`
	Motion           Motion   `toml:"motion"`
	Outputs          []Output `toml:"outputs"`
}

// Output is one of the configuration's [[printer.outputs]]: a fan, a light or a pin.
type Output struct {
	Name   string `toml:"name"`
	Kind   string `toml:"kind"`   // fan, light or pin
	Number int    `toml:"number"` // of the fan or the pin, as the firmware counts
	Levels bool   `toml:"levels"` // it has levels between off and full
}

// Motion is what the printer's axes can do, for the time that a file takes; 0 is what a
// common machine has. What the printer tells of itself goes before it.
type Motion struct {
	Speed        [4]float64 `toml:"speed"`         // X, Y, Z, E, mm/s at most
	Acceleration [4]float64 `toml:"acceleration"`  // X, Y, Z, E, mm/s² at most
	Print        float64    `toml:"print"`         // mm/s² of a move that extrudes
	Travel       float64    `toml:"travel"`        // of one that does not
	Retract      float64    `toml:"retract"`       // of the extruder alone
	Deviation    float64    `toml:"deviation"`     // mm by which a corner may be cut
	Jerk         [4]float64 `toml:"jerk"`          // X, Y, Z, E, mm/s; in place of a deviation
	Moves        int        `toml:"planned_moves"` // that the firmware's planner holds
}

// Limits are the highest setpoints in °C; 0 where there is no such heater.
type Limits struct {
	Nozzle  float64 `toml:"nozzle"`
	Bed     float64 `toml:"bed"`
	Chamber float64 `toml:"chamber"`
}

// DefaultConfig is what holds where nothing else is said. Its limits are those
// of a plain machine: raise them for yours.
func DefaultConfig() Config {
	return Config{
		Listen: "127.0.0.1:8437", Announce: true, Data: dataFolder(),
		Printer: Printer{
			Name: machine.Unnamed, Width: 220, Depth: 220, Height: 250, Tools: 1,
			NozzleDiameter: 0.4, FilamentDiameter: 1.75, FilamentDensity: 1.24,
			Limits: Limits{Nozzle: 260, Bed: 100},
		},
		Hold:   Hold{Retract: 2, Lift: 10, Prime: 3, TravelFeed: 100, LiftFeed: 8, FilamentFeed: 25, NozzleHotFor: 10 * time.Minute},
		PickUp: PickUp{BedWarmFor: 30 * time.Minute},
		Wire:   Wire{Window: "auto"},
		Heat:   Heat{UnusedFor: 30 * time.Minute, Flow: string(heat.FlowTell), PartOff: 40},
	}
}

// dataFolder is where a service keeps its things: a system's place for root,
// whom PostgreSQL makes drop to another user, and a person's own otherwise.
func dataFolder() string {
	if os.Getuid() == 0 {
		return "/var/lib/diathermon"
	}
	return filepath.Join(xdg.DataHome, "diathermon")
}

// ConfigFile is the name of the configuration file.
const ConfigFile = "diathermon.toml"

// ReadConfig reads the configuration file at path over c. With an empty path it
// looks in the working folder, then in the person's and the system's
// configuration folders, and is content with none.
func ReadConfig(path string, c *Config) error {
	if path == "" {
		for _, candidate := range []string{ConfigFile, filepath.Join(xdg.ConfigHome, "diathermon", ConfigFile), filepath.Join("/etc/diathermon", ConfigFile)} {
			if _, err := os.Stat(candidate); err == nil {
				path = candidate
				break
			}
		}
		if path == "" {
			return nil
		}
	}
	meta, err := toml.DecodeFile(path, c)
	switch parse := (toml.ParseError{}); {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no configuration file %s", path)
	case errors.As(err, &parse):
		return fmt.Errorf("%s, line %d: %s", path, parse.Position.Line, parse.Message)
	case err != nil:
		return fmt.Errorf("%s: %w", path, err)
	}
	for _, k := range meta.Keys() {
		c.Name(k.String())
	}
	if unknown := meta.Undecoded(); len(unknown) > 0 {
		keys := make([]string, len(unknown))
		for i, k := range unknown {
			keys[i] = k.String()
		}
		return fmt.Errorf("%s: not known here: %s; docs/configuration.md lists what is", path, strings.Join(keys, ", "))
	}
	return nil
}

// Name notes that the configuration file or the command line has named a key.
func (c *Config) Name(key string) {
	if c.Named == nil {
		c.Named = map[string]bool{}
	}
	c.Named[key] = true
}

// Check says what of the configuration cannot be.
func (c Config) Check() error {
	p := c.Printer
	positive := []struct {
		key   string
		value float64
	}{
		{"printer.width", p.Width}, {"printer.depth", p.Depth}, {"printer.height", p.Height}, {"printer.tools", float64(p.Tools)},
		{"printer.limits.nozzle", p.Limits.Nozzle},
		{"hold.travel_feed", c.Hold.TravelFeed}, {"hold.lift_feed", c.Hold.LiftFeed}, {"hold.filament_feed", c.Hold.FilamentFeed},
	}
	for _, v := range positive {
		if !(v.value > 0) {
			return fmt.Errorf("%s is %g: it must be above zero", v.key, v.value)
		}
	}
	bounded := []struct {
		key         string
		value, most float64
	}{
		{"hold.retract", c.Hold.Retract, 20}, {"hold.lift", c.Hold.Lift, 100}, {"hold.prime", c.Hold.Prime, 50},
		{"hold.travel_feed", c.Hold.TravelFeed, 1000}, {"hold.lift_feed", c.Hold.LiftFeed, 100}, {"hold.filament_feed", c.Hold.FilamentFeed, 100},
		{"hold.nozzle_hot_for", c.Hold.NozzleHotFor.Minutes(), 24 * 60}, {"pick_up.bed_warm_for", c.PickUp.BedWarmFor.Minutes(), 24 * 60},
		{"heat.unused_for", c.Heat.UnusedFor.Minutes(), 24 * 60}, {"heat.part_off", c.Heat.PartOff, 100},
		{"heat.keep", c.Heat.Keep.Hours(), 24 * 366 * 100},
		{"printer.filament_price", p.FilamentPrice, 1e6},
		{"printer.motion.print", p.Motion.Print, 1e5}, {"printer.motion.travel", p.Motion.Travel, 1e5}, {"printer.motion.retract", p.Motion.Retract, 1e5},
		{"printer.motion.deviation", p.Motion.Deviation, 1}, {"printer.motion.planned_moves", float64(p.Motion.Moves), 64},
		{"wire.receive_buffer", float64(c.Wire.ReceiveBuffer), 1 << 16}, {"wire.command_slots", float64(c.Wire.CommandSlots), 64},
	}
	for axis, letter := range "XYZE" {
		for key, v := range map[string]float64{"speed": p.Motion.Speed[axis], "acceleration": p.Motion.Acceleration[axis], "jerk": p.Motion.Jerk[axis]} {
			bounded = append(bounded, struct {
				key         string
				value, most float64
			}{fmt.Sprintf("printer.motion.%s, %c,", key, letter), v, 1e6})
		}
	}
	for _, v := range bounded {
		if !(v.value >= 0 && v.value <= v.most) {
			return fmt.Errorf("%s is %g: it must be from 0 to %g", v.key, v.value, v.most)
		}
	}
	between := []struct { // what no machine goes below either
		key                string
		value, least, most float64
	}{
		{"printer.width", p.Width, 10, 1e4}, {"printer.depth", p.Depth, 10, 1e4}, {"printer.height", p.Height, 10, 1e4},
		{"printer.nozzle_diameter", p.NozzleDiameter, 0.05, 20}, {"printer.filament_diameter", p.FilamentDiameter, 0.5, 20}, {"printer.filament_density", p.FilamentDensity, 0.1, 50},
	}
	for _, v := range between {
		if !(v.value >= v.least && v.value <= v.most) {
			return fmt.Errorf("%s is %g: it must be from %g to %g", v.key, v.value, v.least, v.most)
		}
	}
	if err := p.checkOutputs(); err != nil {
		return err
	}
	switch {
	case c.Wire.Window != "auto" && c.Wire.Window != "single" && c.Wire.Window != "wide":
		return fmt.Errorf("wire.window is %q: use auto, single or wide", c.Wire.Window)
	case c.Heat.Flow != string(heat.FlowOff) && c.Heat.Flow != string(heat.FlowTell) && c.Heat.Flow != string(heat.FlowHold):
		return fmt.Errorf("heat.flow is %q: use off, tell or hold", c.Heat.Flow)
	case c.Baud < 0 || c.Baud > 4_000_000:
		return fmt.Errorf("baud is %d: use the printer's rate, such as 115200, or 0 to find it", c.Baud)
	case p.Tools > 16:
		return fmt.Errorf("printer.tools is %d: at most 16 are possible", p.Tools)
	case p.Slots < 0 || p.Slots > 16 || p.Slots > 0 && p.Slots < p.Tools:
		return fmt.Errorf("printer.slots is %d: use 0 for as many as tools, or up to 16 and no fewer than tools", p.Slots)
	case p.Limits.Nozzle > 550 || p.Limits.Bed > 250 || p.Limits.Chamber > 250 || p.Limits.Bed < 0 || p.Limits.Chamber < 0:
		return fmt.Errorf("printer.limits are nozzle %g, bed %g, chamber %g: no printer is built for that", p.Limits.Nozzle, p.Limits.Bed, p.Limits.Chamber)
	case p.Colour != "" && !stock.Coloured(p.Colour):
		return fmt.Errorf("printer.colour is %q: it looks like #2f6f62, in small letters", p.Colour)
	case strings.TrimSpace(p.Name) == "":
		return errors.New("printer.name is empty: a name keeps several printers apart")
	case legible.Line(p.Name) != p.Name:
		return fmt.Errorf("printer.name is %q: there are characters in it that nobody can see", p.Name)
	case legible.Line(p.Currency) != p.Currency || utf8.RuneCountInString(p.Currency) > 8:
		return fmt.Errorf("printer.currency is %q: it has at most 8 characters, all of which can be seen", p.Currency)
	case strings.ContainsFunc(c.Device, unicode.IsControl):
		return fmt.Errorf("device is %q: it should be the path of a port", c.Device)
	}
	if _, err := c.Web.proxy(); err != nil {
		return err
	}
	switch w := c.Web; {
	case (w.Certificate == "") != (w.Key == ""):
		return errors.New("web.certificate and web.key belong together: name both, or neither")
	case w.OwnCertificate && w.Certificate != "":
		return errors.New("web.own_certificate is asked for, and web.certificate is named: choose one")
	}
	for _, origin := range c.Web.FramedBy {
		if u, err := url.Parse(origin); err != nil || u.Scheme == "" || u.Host == "" || origin != u.Scheme+"://"+u.Host {
			return fmt.Errorf("web.framed_by has %q: an origin looks like https://name.example:8443", origin)
		}
	}
	if _, _, err := net.SplitHostPort(c.Listen); err != nil {
		return fmt.Errorf("listen is %q: it should look like 127.0.0.1:8437", c.Listen)
	}
	return nil
}

// sealed reports whether the host speaks TLS.
func (w Web) sealed() bool { return w.OwnCertificate || w.Certificate != "" }

// named is what the name of an output may look like.
var named = regexp.MustCompile(`^[\pL\pN][\pL\pN _-]{0,29}$`)

// pathed is what a path below which a host is may look like.
var pathed = regexp.MustCompile(`^(/[A-Za-z0-9._~-]+)*$`)

// proxy is what the guard is told.
func (w Web) proxy() (guard.Proxy, error) {
	p := guard.Proxy{Path: strings.TrimSuffix(w.Path, "/")}
	if !pathed.MatchString(p.Path) {
		return p, fmt.Errorf("web.path is %q: it looks like /vesper", w.Path)
	}
	for _, text := range w.Proxies {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return p, fmt.Errorf("web.proxies has %q: name the proxy's address, as 127.0.0.1", text)
		}
		p.Trusted = append(p.Trusted, a.Unmap())
	}
	return p, nil
}

// host is the configuration as the host wants it.
func (c Config) host() host.Config {
	p := c.Printer
	return host.Config{
		Device: c.Device, Baud: c.Baud, Printer: p.Machine(),
		Rules: run.Rules{Parking: run.Parking{
			Bed: [3]float64{p.Width, p.Depth, p.Height}, Retract: c.Hold.Retract, Lift: c.Hold.Lift, Prime: c.Hold.Prime,
			Travel: c.Hold.TravelFeed, Climb: c.Hold.LiftFeed, Filament: c.Hold.FilamentFeed,
		}, IdleAfter: c.Hold.NozzleHotFor, KeepBed: c.PickUp.BedWarmFor, ByHand: c.PickUp.ByHand},
		UnusedFor: c.Heat.UnusedFor, FlowWatch: heat.FlowAction(c.Heat.Flow), Unguarded: c.Unguarded, Pace: c.Pace, Unmeasured: c.Unmeasured,
		Wire: wire.Config{Buffer: c.Wire.ReceiveBuffer, Slots: c.Wire.CommandSlots, Single: c.Wire.Window == "single", Wide: c.Wire.Window == "wide"},
	}
}

// Machine is the configuration's printer as the core knows it.
func (p Printer) Machine() machine.Printer {
	var outputs []machine.Output
	for _, o := range p.Outputs {
		outputs = append(outputs, machine.Output{Name: o.Name, Kind: machine.OutputKind(o.Kind), Number: o.Number, Levels: o.Levels})
	}
	return machine.Printer{
		Name: p.Name, Colour: p.Colour, Nozzle: p.NozzleDiameter, Filament: p.FilamentDiameter, Density: p.FilamentDensity,
		Price: p.FilamentPrice, Currency: p.Currency,
		Width: p.Width, Depth: p.Depth, Height: p.Height, Tools: p.Tools, Slots: p.Slots,
		Limits:  heat.Limits{Nozzle: p.Limits.Nozzle, Bed: p.Limits.Bed, Chamber: p.Limits.Chamber},
		Outputs: outputs,
	}
}

// checkOutputs says what is wrong with the outputs.
func (p Printer) checkOutputs() error {
	names := map[string]bool{}
	for _, o := range p.Outputs {
		switch name := strings.ToLower(o.Name); {
		case !named.MatchString(o.Name):
			return fmt.Errorf("printer.outputs: %q is no name: up to 30 letters, digits and spaces", o.Name)
		case names[name]:
			return fmt.Errorf("printer.outputs: %q is there twice", o.Name)
		case o.Kind != string(machine.Fan) && o.Kind != string(machine.Light) && o.Kind != string(machine.Pin):
			return fmt.Errorf("printer.outputs: the kind of %q is %q: use fan, light or pin", o.Name, o.Kind)
		case o.Number < 0 || o.Number > 255:
			return fmt.Errorf("printer.outputs: the number of %q is %d: use 0 to 255", o.Name, o.Number)
		default:
			names[name] = true
		}
	}
	return nil
}

// limits are those of a common machine with what is said in their place; nil if nothing
// is.
func (m Motion) limits() *motion.Limits {
	if m == (Motion{}) {
		return nil
	}
	l := motion.Ordinary
	take := func(v float64, to *float64) {
		if v > 0 {
			*to = v
		}
	}
	for axis := range m.Speed {
		take(m.Speed[axis], &l.Feed[axis])
		take(m.Acceleration[axis], &l.Acceleration[axis])
		if m.Jerk[axis] > 0 {
			l.Jerk[axis], l.Deviation = m.Jerk[axis], 0
		}
	}
	take(m.Print, &l.Print)
	take(m.Travel, &l.Travel)
	take(m.Retract, &l.Retract)
	take(m.Deviation, &l.Deviation)
	if m.Moves > 0 {
		l.Ring = m.Moves
	}
	return &l
}

// Reading is how files are read for the printer.
func (p Printer) Reading() toolpath.Options {
	if l := p.Motion.limits(); l != nil {
		return toolpath.Options{Limits: *l, Of: toolpath.SetupsLimits}
	}
	return toolpath.Options{Limits: motion.Ordinary, Of: toolpath.OrdinaryLimits}
}
