// Package settable is what there is to say of a thing that a person can set: its name in
// the contract, its bounds and unit, its word for a person. Each thing is declared once,
// in a table of the room that knows it, and everything else is made from there: what is
// refused, flags, keys of the configuration file, the document, the console's rows.
package settable

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"
)

// A Field is one thing that can be set.
type Field struct {
	Name  string `json:"-"`    // in the contract, such as limit_bed
	Word  string `json:"word"` // for a person, such as "Bed at most"
	Unit  string `json:"unit,omitempty"`
	About string `json:"-"` // what it is, as it stands in a sentence

	Least   float64    `json:"least"` // of a number
	Most    float64    `json:"most"`
	Whole   bool       `json:"whole,omitempty"`   // it has no fraction
	Steps   [2]float64 `json:"steps"`             // by which it is changed by hand, the larger first; 0: it is typed
	Usual   float64    `json:"usual"`             // that it is where nothing is said
	Zero    string     `json:"zero,omitempty"`    // what 0 means, which goes whatever the bounds; empty: nothing
	Longest int        `json:"longest,omitempty"` // letters of a text; 0: it is a number
}

// Between are the bounds in words.
func (f Field) Between() string {
	if f.Longest > 0 {
		return fmt.Sprintf("up to %d letters", f.Longest)
	}
	return f.between(f.Unit)
}

// Usage is what the field is and between which bounds, as the help of an option says it:
// with the unit in backquotes, where it has one.
func (f Field) Usage() string {
	switch {
	case f.Longest > 0:
		return f.About + "; " + f.Between()
	case f.Unit == "":
		return f.About + ": " + f.Between()
	}
	return f.About + ": " + f.between("`"+f.Unit+"`")
}

func (f Field) between(unit string) string {
	out := plain(f.Least) + " to " + plain(f.Most)
	if unit != "" {
		out += " " + unit
	}
	if f.Zero != "" {
		out += ", or 0: " + f.Zero
	}
	return out
}

// Check says what is wrong with a number.
func (f Field) Check(v float64) error {
	if v == 0 && f.Zero != "" || v >= f.Least && v <= f.Most && (!f.Whole || v == math.Trunc(v)) {
		return nil
	}
	return f.cannot(f.In(v))
}

// CheckText says what is wrong with a text.
func (f Field) CheckText(v string) error {
	if n := utf8.RuneCountInString(v); n > f.Longest {
		return f.cannot(fmt.Sprintf("a text of %d letters", n))
	}
	return nil
}

func (f Field) cannot(be string) error {
	return fmt.Errorf("%s cannot be %s: it can be %s", strings.ToLower(f.Word[:1])+f.Word[1:], be, f.Between())
}

// In is a number in words, with its unit.
func (f Field) In(v float64) string {
	switch {
	case v == 0 && f.Zero != "":
		return f.Zero
	case f.Unit == "":
		return plain(v)
	}
	return plain(v) + " " + f.Unit
}

// plain is a number, without an exponent where it is one that anybody would set.
func plain(v float64) string {
	if abs := math.Abs(v); abs != 0 && abs < 1e-4 || abs > 1e9 {
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}
