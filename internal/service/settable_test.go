package service

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"diathermon/internal/api"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/settable"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/trim"
)

// tables are what can be set, by the contract's type.
var tables = map[reflect.Type][]settable.Field{
	reflect.TypeFor[api.Description](): machine.Settable(), reflect.TypeFor[api.Trim](): trim.Settable(),
	reflect.TypeFor[api.LoadSlot](): stock.Settable(),
}

// sentAs are the types in which persons send what can be set, where these are others.
var sentAs = map[reflect.Type]string{
	reflect.TypeFor[api.Description](): "DescribePrinter", reflect.TypeFor[api.Trim](): "ChangeTrim",
}

// tagsOf are the fields of a type of the contract with their tags, by their names.
func tagsOf(t reflect.Type) map[string]reflect.StructTag {
	out := map[string]reflect.StructTag{}
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			for name, tag := range tagsOf(f.Type) {
				out[name] = tag
			}
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		out[name] = f.Tag
	}
	return out
}

func TestABoundIsSaidOnce(t *testing.T) {
	document, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct {
					Description string
					Settable    settable.Field `json:"x-settable"`
				}
			}
		}
	}
	if err := json.Unmarshal(document, &d); err != nil {
		t.Fatal(err)
	}
	for of, fields := range tables {
		tags := tagsOf(of)
		for _, f := range fields {
			tag, there := tags[f.Name]
			for _, twice := range []string{"doc", "minimum", "maximum", "maxLength"} {
				if tag.Get(twice) != "" || !there {
					t.Errorf("%s of %s: %s stands in its tag too, or it is not there", f.Name, of.Name(), twice)
				}
			}
			if also, is := sentAs[of]; is {
				if said := d.Components.Schemas[also].Properties[f.Name].Description; !strings.HasSuffix(said, f.Between()) {
					t.Errorf("the document says %q of %s in %s, want %q", said, f.Name, also, f.Between())
				}
			}
			told := d.Components.Schemas[of.Name()].Properties[f.Name]
			want := f
			want.Name, want.About = "", ""
			if told.Settable != want || !strings.HasSuffix(told.Description, f.Between()) {
				t.Errorf("the document has %+v for %s, want %+v", told, f.Name, f)
			}
		}
	}

	number := regexp.MustCompile(`(?:least|most|maxlength|min|max)="[0-9.]+"`)
	err = filepath.WalkDir("../../console/src", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Contains(path, ".gen.") {
			return err
		}
		text, err := os.ReadFile(path)
		said := string(text)
		if strings.Contains(said, "settable.gen") || strings.Contains(said, "Schemas['LoadSlot']") || strings.Contains(said, "describe'") {
			for _, found := range number.FindAllString(said, -1) {
				if !strings.HasSuffix(path, "Adjust.vue") { // which asks for a layer
					t.Errorf("%s says %s, which the document says", path, found)
				}
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// numbered fills every field of a struct with a value of its own.
func numbered(v reflect.Value, from int) {
	for i := range v.NumField() {
		switch f := v.Field(i); f.Interface().(type) {
		case *float64:
			f.Set(reflect.ValueOf(new(float64(from + i))))
		case *int:
			f.Set(reflect.ValueOf(new(from + i)))
		case *string:
			f.Set(reflect.ValueOf(new(string(rune('a' + i)))))
		case float64:
			f.SetFloat(float64(from + i))
		}
	}
}

// inContract is a value in the contract's words, by its names.
func inContract(t *testing.T, v any) map[string]any {
	text, err := json.Marshal(v)
	out := map[string]any{}
	if err != nil || json.Unmarshal(text, &out) != nil {
		t.Fatal(err)
	}
	return out
}

func TestEachFieldHasItsOwnValue(t *testing.T) {
	var said api.Description
	numbered(reflect.ValueOf(&said).Elem(), 10)
	d := machine.Description(said)
	want := inContract(t, said)
	for _, a := range machine.Aspects {
		switch v := a.Said(&d).(type) {
		case **string:
			if **v != want[a.Name] {
				t.Errorf("%s is %q, want %q", a.Name, **v, want[a.Name])
			}
		case **float64:
			if **v != want[a.Name] {
				t.Errorf("%s is %g, want %v", a.Name, **v, want[a.Name])
			}
		case **int:
			if float64(**v) != want[a.Name] {
				t.Errorf("%s is %d, want %v", a.Name, **v, want[a.Name])
			}
		}
		delete(want, a.Name)
	}
	if len(want) > 0 {
		t.Errorf("no aspect is %v", want)
	}

	var numbers api.TrimNumbers
	numbered(reflect.ValueOf(&numbers).Elem(), 10)
	var wanted api.TrimWanted
	numbered(reflect.ValueOf(&wanted).Elem(), 30)
	n, w := trim.Numbers(numbers), trim.Wanted(wanted)
	is, new := inContract(t, numbers), inContract(t, wanted)
	for _, f := range trim.Fields {
		if *f.Of(&n) != is[f.Name] || **f.In(&w) != new[f.Name] {
			t.Errorf("%s is %g and is to be %g, want %v and %v", f.Name, *f.Of(&n), **f.In(&w), is[f.Name], new[f.Name])
		}
	}
	if after := w.Of(n); !reflect.DeepEqual(inContract(t, api.TrimNumbers(after)), new) {
		t.Errorf("changed, it is %+v, want %v", after, new)
	}
}

// TestAPrinterIsLaidFieldByField: what is said of an aspect comes to the printer's own.
func TestAPrinterIsLaidFieldByField(t *testing.T) {
	var d machine.Description
	numbered(reflect.ValueOf(&d).Elem(), 10)
	var p machine.Printer
	var told machine.Description
	for _, a := range machine.Aspects {
		if a.Is == nil {
			continue
		}
		if !a.Lay(&d, a.Is(&p)) || a.Lay(&machine.Description{}, a.Is(&p)) {
			t.Errorf("%s is not laid, or nothing is", a.Name)
		}
		a.Tell(a.Is(&p), &told)
		if a.In(&told) != a.In(&d) {
			t.Errorf("%s is %q, want %q", a.Name, a.In(&told), a.In(&d))
		}
	}
	before := machine.Description{Width: new(5.0), Height: new(6.0)}
	if now := (machine.Description{Width: new(7.0)}).Over(before); *now.Width != 7 || *now.Height != 6 || now.Depth != nil {
		t.Errorf("over another it is %+v", now)
	}
}
