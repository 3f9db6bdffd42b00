// Package legible makes text that came from elsewhere safe to be shown: a terminal obeys
// some characters, others turn the order of what stands around them, and some nobody sees.
package legible

import (
	"reflect"
	"strings"
	"unicode"
)

// Obeyed reports whether a character is none to be read: a control character of C0 or C1
// (ECMA-48) but line end and tabulator, one that sets a direction (Unicode, UAX 9), a
// separator of lines or paragraphs, or one that is not seen. Joiners are letters' own.
func Obeyed(r rune) bool {
	const joiners = "\u200c\u200d"
	switch {
	case r == '\n' || r == '\t' || strings.ContainsRune(joiners, r):
		return false
	case r == unicode.ReplacementChar:
		return false
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Co, unicode.Cs, unicode.Zl, unicode.Zp)
}

// Text is s with a replacement character for each that is obeyed, and for what is not UTF-8.
// Line ends stay.
func Text(s string) string {
	s = strings.ReplaceAll(s, "\r\n", "\n")
	return replaced(s, Obeyed)
}

// Line is Text of one line: there is no line end and no tabulator in it either.
func Line(s string) string {
	return replaced(s, func(r rune) bool { return Obeyed(r) || unicode.IsControl(r) })
}

func replaced(s string, which func(rune) bool) string {
	return strings.Map(func(r rune) rune {
		if which(r) {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}

// Clean makes Text of every string that a pointer leads to, but keys of maps.
func Clean(pointer any) { clean(reflect.ValueOf(pointer)) }

// Cleaned is a copy of a value with Text in place of its strings. Slices, maps and pointers in
// it are cleaned where they are.
func Cleaned(value any) any {
	if value == nil {
		return nil
	}
	p := reflect.New(reflect.TypeOf(value))
	p.Elem().Set(reflect.ValueOf(value))
	clean(p)
	return p.Elem().Interface()
}

func clean(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			clean(v.Elem())
		}
	case reflect.Interface:
		if !v.IsNil() && v.CanSet() {
			v.Set(reflect.ValueOf(Cleaned(v.Elem().Interface())))
		}
	case reflect.String:
		if s := v.String(); v.CanSet() {
			if t := Text(s); t != s {
				v.SetString(t)
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				clean(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		if k := v.Type().Elem().Kind(); k >= reflect.Bool && k <= reflect.Complex128 {
			return
		}
		for i := range v.Len() {
			clean(v.Index(i))
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			v.SetMapIndex(key, reflect.ValueOf(Cleaned(v.MapIndex(key).Interface())))
		}
	}
}
