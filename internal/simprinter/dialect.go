package simprinter

import (
	"fmt"
	"slices"
	"strings"
)

// A Dialect is how a firmware holds its side of the conversation, named by what
// it does.
type Dialect struct {
	Numbered     bool   // every ok names its line and the free slots: "ok N12 P15 B3"
	Early        bool   // a line is acknowledged as it is queued, not when it is done
	Quiet        bool   // nothing is said while it works
	Asked        bool   // no automatic reports
	Waiting      bool   // "wait" is said every second while there is nothing to do
	Skipping     bool   // a line that it has already is skipped, not refused
	Bare         bool   // no ok follows a request to say a line again
	Keeping      bool   // what is in the receive buffer is kept when a line is refused
	Queued       bool   // M112, M108 and M410 take effect in their turn, not as they arrive
	Careless     bool   // a line with a checksum and without a number is carried out
	Telling      bool   // M115 tells the sizes of its buffers
	Pausing      bool   // XOFF and XON are sent as the receive buffer fills and empties
	RequestForm  string // "Resend: %d"
	Temperatures bool   // they stand on every ok
	Lenient      bool   // whatever can be found in a line is carried out
	Trusting     bool   // a sensor that is broken, or a heater that is too hot, does not stop it
}

// dialects sets one trait by its name.
var dialects = map[string]func(*Dialect){
	"plain":     func(*Dialect) {},
	"numbered":  func(d *Dialect) { d.Numbered = true },
	"early":     func(d *Dialect) { d.Early = true },
	"quiet":     func(d *Dialect) { d.Quiet = true },
	"asked":     func(d *Dialect) { d.Asked = true },
	"waiting":   func(d *Dialect) { d.Waiting = true },
	"skipping":  func(d *Dialect) { d.Skipping = true },
	"bare":      func(d *Dialect) { d.Bare = true },
	"keeping":   func(d *Dialect) { d.Keeping = true },
	"queued":    func(d *Dialect) { d.Queued = true },
	"careless":  func(d *Dialect) { d.Careless = true },
	"telling":   func(d *Dialect) { d.Telling = true },
	"pausing":   func(d *Dialect) { d.Pausing = true },
	"short":     func(d *Dialect) { d.RequestForm = "rs %d" },
	"lenient":   func(d *Dialect) { d.Lenient = true },
	"trusting":  func(d *Dialect) { d.Trusting = true },
	"warm-oks":  func(d *Dialect) { d.Temperatures = true },
	"unspaced":  func(d *Dialect) { d.RequestForm = "Resend:%d" },
	"n-resends": func(d *Dialect) { d.RequestForm = "rs N%d" },
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

// ParseDialect reads traits separated by commas, such as "numbered,quiet".
func ParseDialect(s string) (Dialect, error) {
	var d Dialect
	for name := range strings.SplitSeq(s, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		set, known := dialects[name]
		if !known {
			return Dialect{}, fmt.Errorf("there is no trait %q of a dialect: use %s", name, strings.Join(Traits(), ", "))
		}
		set(&d)
	}
	return d, nil
}

// requestForm is how a line is asked for again.
func (d Dialect) requestForm() string {
	if d.RequestForm == "" {
		return "Resend: %d"
	}
	return d.RequestForm
}
