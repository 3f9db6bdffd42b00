package simprinter

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
)

// A Dialect is how a firmware holds its side of the conversation, named by what
// it does.
type Dialect struct {
	Early        bool  // a line is acknowledged as it is queued, not when it is done
	Asked        bool  // no automatic reports
	Keeping      bool  // what is in the receive buffer is kept when a line is refused
	Queued       bool  // M112, M108 and M410 take effect in their turn, not as they arrive
	Careless     bool  // a line with a checksum and without a number is carried out
	Telling      bool  // M115 tells the sizes of its buffers
	Pausing      bool  // XOFF and XON are sent as the receive buffer fills and empties
	Temperatures bool  // they stand on every ok
	Lenient      bool  // whatever can be found in a line is carried out
	Stubborn     bool  // what a line says of the limits of its axes is passed over
	Trusting     bool  // a sensor that is broken, or a heater that is too hot, does not stop it
	Words        Words // in which it says what every firmware says
}

// dialects sets one trait by its name.
var dialects = map[string]func(*Dialect){
	"plain":    func(*Dialect) {},
	"early":    func(d *Dialect) { d.Early = true },
	"asked":    func(d *Dialect) { d.Asked = true },
	"keeping":  func(d *Dialect) { d.Keeping = true },
	"queued":   func(d *Dialect) { d.Queued = true },
	"careless": func(d *Dialect) { d.Careless = true },
	"telling":  func(d *Dialect) { d.Telling = true },
	"pausing":  func(d *Dialect) { d.Pausing = true },
	"lenient":  func(d *Dialect) { d.Lenient = true },
	"stubborn": func(d *Dialect) { d.Stubborn = true },
	"trusting": func(d *Dialect) { d.Trusting = true },
	"warm-oks": func(d *Dialect) { d.Temperatures = true },
}

// Traits lists the names that ParseDialect knows.
func Traits() []string {
	var names []string
	for name := range dialects {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// ParseDialect reads traits and wordings separated by commas, such as
// "early,naming=full,heaters=bed-first"; "any=7" draws a mix of wordings from a seed.
func ParseDialect(s string) (Dialect, error) {
	var d Dialect
	for name := range strings.SplitSeq(s, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		if key, way, is := strings.Cut(name, "="); is {
			seed, err := strconv.ParseUint(way, 10, 64)
			switch {
			case key == "any" && err == nil:
				d.Words = AnyWords(rand.New(rand.NewPCG(seed, 29)))
			case !d.Words.choose(key, way):
				return Dialect{}, fmt.Errorf("there is no wording %q: use %s, or any=NUMBER for a mix", name, strings.Join(Wordings(), ", "))
			}
			continue
		}
		set, known := dialects[name]
		if !known {
			return Dialect{}, fmt.Errorf("there is no trait %q of a dialect: use %s, or a wording such as naming=full", name, strings.Join(Traits(), ", "))
		}
		set(&d)
	}
	return d, nil
}

// MustDialect is ParseDialect for what is known to be right; it panics otherwise.
func MustDialect(s string) Dialect {
	d, err := ParseDialect(s)
	if err != nil {
		panic(err)
	}
	return d
}
