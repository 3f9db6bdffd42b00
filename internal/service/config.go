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

	"github.com/BurntSushi/toml"
	"github.com/adrg/xdg"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
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
	machine.Printer
	Motion Motion `toml:"motion"`
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

// DefaultConfig is what holds where nothing else is said. Its limits are those
// of a plain machine: raise them for yours.
func DefaultConfig() Config {
	return Config{
		Listen: "127.0.0.1:8437", Announce: true, Data: dataFolder(),
		Printer: Printer{Printer: machine.Ordinary},
		Hold:    Hold{Retract: 2, Lift: 10, Prime: 3, TravelFeed: 100, LiftFeed: 8, FilamentFeed: 25, NozzleHotFor: 10 * time.Minute},
		PickUp:  PickUp{BedWarmFor: 30 * time.Minute},
		Wire:    Wire{Window: "auto"},
		Heat:    Heat{UnusedFor: 30 * time.Minute, Flow: string(heat.FlowTell), PartOff: 40},
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
	if err := p.Check(); err != nil {
		return err
	}
	for key, v := range map[string]float64{
		"travel_feed": c.Hold.TravelFeed, "lift_feed": c.Hold.LiftFeed, "filament_feed": c.Hold.FilamentFeed,
	} {
		if !(v > 0) {
			return fmt.Errorf("hold.%s is %g: it must be above zero", key, v)
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
	switch {
	case c.Wire.Window != "auto" && c.Wire.Window != "single" && c.Wire.Window != "wide":
		return fmt.Errorf("wire.window is %q: use auto, single or wide", c.Wire.Window)
	case c.Heat.Flow != string(heat.FlowOff) && c.Heat.Flow != string(heat.FlowTell) && c.Heat.Flow != string(heat.FlowHold):
		return fmt.Errorf("heat.flow is %q: use off, tell or hold", c.Heat.Flow)
	case c.Baud < 0 || c.Baud > 4_000_000:
		return fmt.Errorf("baud is %d: use the printer's rate, such as 115200, or 0 to find it", c.Baud)
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
		Device: c.Device, Baud: c.Baud, Printer: p.Printer,
		Rules: run.Rules{Parking: run.Parking{
			Bed: [3]float64{p.Width, p.Depth, p.Height}, Retract: c.Hold.Retract, Lift: c.Hold.Lift, Prime: c.Hold.Prime,
			Travel: c.Hold.TravelFeed, Climb: c.Hold.LiftFeed, Filament: c.Hold.FilamentFeed,
		}, IdleAfter: c.Hold.NozzleHotFor, KeepBed: c.PickUp.BedWarmFor, ByHand: c.PickUp.ByHand},
		UnusedFor: c.Heat.UnusedFor, FlowWatch: heat.FlowAction(c.Heat.Flow), Unguarded: c.Unguarded, Pace: c.Pace, Unmeasured: c.Unmeasured,
		Wire: wire.Config{Buffer: c.Wire.ReceiveBuffer, Slots: c.Wire.CommandSlots, Single: c.Wire.Window == "single", Wide: c.Wire.Window == "wide"},
	}
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
