package legible

import (
	"strings"
	"testing"
)

func TestNothingIsLeftThatATerminalObeys(t *testing.T) {
	for text, want := range map[string]string{
		"":                                 "",
		"PETG, größer, 直径, حامل":           "PETG, größer, 直径, حامل",
		"a\x1b[2Jb":                        "a\uFFFD[2Jb",
		"a\u009b2Jb":                       "a\uFFFD2Jb", // the same in one character of C1
		"\u202egpj.exe":                    "\uFFFDgpj.exe",
		"\u2066a\u2069":                    "\uFFFDa\uFFFD",
		"a\xffb":                           "a\uFFFDb",
		"a\r\nb\tc":                        "a\nb\tc",
		"a\rb":                             "a\uFFFDb",
		"a\u2028b\u200bc\ufeff":            "a\uFFFDb\uFFFDc\uFFFD",
		"\U0001F468\u200d\U0001F469 of \a": "\U0001F468\u200d\U0001F469 of \uFFFD",
	} {
		if got := Text(text); got != want {
			t.Errorf("%q is shown as %q", text, got)
		}
	}
	if got := Line("a\tb\nc\x7f"); got != "a\uFFFDb\uFFFDc\uFFFD" {
		t.Errorf("a line of it is %q", got)
	}
}

func TestEveryStringOfAValueIsCleaned(t *testing.T) {
	type inner struct {
		Name string
		Any  any
		own  string
	}
	type outer struct {
		Inner   inner
		Pointer *inner
		List    []inner
		Map     map[string]string
		Deep    map[string][]any
		Bytes   []byte
		Nothing *inner
	}
	const bad = "\x1b]0;x\a"
	all := outer{
		Inner: inner{bad, bad, bad}, Pointer: &inner{Name: bad}, List: []inner{{Name: bad, Any: []string{bad}}},
		Map: map[string]string{"a": bad}, Deep: map[string][]any{"a": {bad, map[string]any{"b": bad}, 1.5, nil}}, Bytes: []byte(bad),
	}
	Clean(&all)
	all.Inner.own, all.Bytes = "", nil // which are not ours, and no text
	var shown []string
	shown = append(shown, all.Inner.Name, all.Inner.Any.(string), all.Pointer.Name, all.List[0].Name, all.List[0].Any.([]string)[0], all.Map["a"], all.Deep["a"][0].(string), all.Deep["a"][1].(map[string]any)["b"].(string))
	if s := strings.Join(shown, ""); strings.ContainsAny(s, "\x1b\a") || strings.Count(s, "\uFFFD") != 2*len(shown) {
		t.Errorf("%q", shown)
	}
	if got := Cleaned(inner{Name: bad}).(inner).Name; got != Text(bad) || Cleaned(nil) != nil {
		t.Errorf("a copy has %q", got)
	}
}
