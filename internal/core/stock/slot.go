package stock

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode"
)

// A Slot is a place where filament is loaded. Where a printer has a slot for each tool,
// its number is the tool's.
type Slot struct {
	Number   int     // from 0
	Loaded   bool    // with what follows
	Material string  // as its maker calls it, PLA
	Colour   string  // #rrggbb; empty: not said
	Diameter float64 // mm; 0: not said
	Coldest  float64 // °C at which its nozzle may be; 0: not said
	Hottest  float64 // °C
	By       string  // who has said so
	Since    time.Time
}

// ErrSlot means that something cannot be in a slot.
var ErrSlot = errors.New("this cannot be in a slot")

// Coloured reports whether a text is a colour as it is kept, #rrggbb in small letters.
func Coloured(text string) bool { return hue.MatchString(text) }

var hue = regexp.MustCompile(`^#[0-9a-f]{6}$`)

// Check returns the slot as it is kept, or what is wrong with it. Every limit of a nozzle
// is below hottest, °C.
func (s Slot) Check(slots int, hottest float64) (Slot, error) {
	s.Material, s.Colour = strings.TrimSpace(s.Material), strings.ToLower(strings.TrimSpace(s.Colour))
	wrong := func(format string, args ...any) (Slot, error) {
		return Slot{}, fmt.Errorf("%w: %w", ErrSlot, fmt.Errorf(format, args...))
	}
	switch {
	case s.Number < 0 || s.Number >= slots:
		return wrong("slot %d is not there; this printer has %d, from 0", s.Number, slots)
	case !s.Loaded:
		return Slot{Number: s.Number}, nil
	case s.Material == "" || strings.ContainsFunc(s.Material, unicode.IsControl):
		return wrong("the material %q needs a name of letters", s.Material)
	case s.Colour != "" && !hue.MatchString(s.Colour):
		return wrong("the colour %q is not written as #rrggbb", s.Colour)
	case s.Hottest > hottest || s.Hottest > 0 && s.Coldest > s.Hottest:
		return wrong("%g to %g °C go for no nozzle here; its limit is %g °C", s.Coldest, s.Hottest, hottest)
	}
	err := errors.Join(
		Material.CheckText(s.Material), Diameter.Check(s.Diameter), Coldest.Check(s.Coldest), Hottest.Check(s.Hottest),
	)
	if err != nil {
		return wrong("%w", err)
	}
	return s, nil
}

// Family is the kind of plastic that a material's name speaks of, in capitals: of "Basic
// PLA+ silk" PLA; empty where none of those that are known is in it.
func Family(material string) string {
	words := strings.FieldsFunc(strings.ToUpper(material), func(r rune) bool { return (r < 'A' || r > 'Z') && (r < '0' || r > '9') })
	for _, w := range words {
		for _, f := range families {
			if w == f.name || strings.HasPrefix(w, f.name) && f.longer {
				return f.as
			}
		}
	}
	return ""
}

// families are the plastics that filament is made of; those that are longer may have a
// syllable behind them, as in PETG.
var families = []struct {
	name, as string
	longer   bool
}{
	{"PLA", "PLA", true}, {"PETG", "PETG", true}, {"PET", "PETG", false}, {"ABS", "ABS", false}, {"ASA", "ASA", false}, {"TPU", "TPU", true}, {"TPE", "TPU", false}, {"FLEX", "TPU", true},
	{"PC", "PC", false}, {"NYLON", "PA", true}, {"PA", "PA", false}, {"PA6", "PA", true}, {"PA11", "PA", true}, {"PA12", "PA", true}, {"PVA", "PVA", false}, {"PVB", "PVB", false}, {"HIPS", "HIPS", false}, {"PP", "PP", false}, {"PEEK", "PEEK", false}, {"PEI", "PEI", false},
}
