package toolpath

import (
	"bytes"
	"strconv"
	"strings"

	"diathermon/internal/core/stock"
)

// Hints are what a file's comments say that it was made for, where they say it as
// "key = value" or "key: value". They are hints: nothing that is computed goes by them.
type Hints struct {
	Material string  `json:",omitempty"`
	Printer  string  `json:",omitempty"`
	Nozzle   float64 `json:",omitempty"` // diameter, mm
	Filament float64 `json:",omitempty"` // diameter, mm

	Materials []string `json:",omitempty"` // of each tool, where several are named
	Colours   []string `json:",omitempty"` // of each tool's filament, #rrggbb; empty: not said
}

// MaterialOf is what a tool is for; empty: not said.
func (h Hints) MaterialOf(tool int) string {
	if tool >= 0 && tool < len(h.Materials) {
		return h.Materials[tool]
	}
	return h.Material
}

// ColourOf is of what colour a tool's filament is; empty: not said.
func (h Hints) ColourOf(tool int) string {
	if tool >= 0 && tool < len(h.Colours) {
		return h.Colours[tool]
	}
	return ""
}

// mostTools is for how many tools hints are kept.
const mostTools = 16

// longestHint is the longest value that is kept, bytes.
const longestHint = 60

// note looks at a comment.
func (h *Hints) note(comment []byte) {
	comment = bytes.TrimLeft(comment, "; \t")
	if len(comment) == 0 || len(comment) > 200 {
		return
	}
	at := bytes.IndexAny(comment, "=:")
	if at < 3 || at > 60 {
		return
	}
	key, value := plainKey(comment[:at]), firstOf(comment[at+1:])
	if value == "" {
		return
	}
	has := func(words ...string) bool {
		for _, w := range words {
			if !strings.Contains(key, w) {
				return false
			}
		}
		return true
	}
	switch {
	case has("nozzle", "diameter"), has("nozzle", "size"):
		number(value, &h.Nozzle)
	case has("filament", "diameter"), has("material", "diameter"):
		number(value, &h.Filament)
	case has("filament", "type"), key == "material", key == "filament", has("material", "type"), has("material", "name"):
		text(value, &h.Material)
		if h.Materials == nil {
			if all := each(comment[at+1:]); len(all) > 1 {
				h.Materials = all
			}
		}
	case has("filament", "colour"), has("filament", "color"), has("extruder", "colour"), has("extruder", "color"), has("material", "colour"), has("material", "color"):
		if h.Colours == nil {
			for _, c := range each(comment[at+1:]) {
				if c = strings.ToLower(c); !stock.Coloured(c) {
					c = ""
				}
				h.Colours = append(h.Colours, c)
			}
		}
	case key == "printer", key == "machine", has("printer", "model"), has("printer", "name"), has("machine", "name"), has("machine", "model"), has("target", "machine"):
		text(value, &h.Printer)
	}
}

// plainKey is a key in lower case with blanks for anything but letters and digits.
func plainKey(key []byte) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(string(key)), func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9')
	}), " ")
}

// firstOf is the first of the values behind a key, without quotes.
func firstOf(value []byte) string {
	first, _, _ := strings.Cut(strings.ToValidUTF8(string(value), ""), ";")
	first = strings.Trim(first, " \t\r\"'")
	return first[:min(len(first), longestHint)]
}

// each are the values behind a key, without quotes.
func each(values []byte) (out []string) {
	for v := range strings.SplitSeq(strings.ToValidUTF8(string(values), ""), ";") {
		v = strings.Trim(v, " \t\r\"'")
		if out = append(out, v[:min(len(v), longestHint)]); len(out) == mostTools {
			break
		}
	}
	return out
}

// number takes the first of some numbers, unless one is known.
func number(value string, to *float64) {
	value, _, _ = strings.Cut(value, ",")
	value = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(value), "mm"))
	if v, err := strconv.ParseFloat(value, 64); err == nil && v > 0 && v < 20 && *to == 0 {
		*to = v
	}
}

// text takes a text, unless one is known.
func text(value string, to *string) {
	if *to == "" {
		*to = value
	}
}

// settle drops what cannot be kept: text that is no text.
func (h *Hints) settle() {
	all := []*string{&h.Material, &h.Printer}
	for i := range h.Materials {
		all = append(all, &h.Materials[i])
	}
	for _, t := range all {
		*t = strings.ToValidUTF8(strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return -1
			}
			return r
		}, *t), "")
	}
}
