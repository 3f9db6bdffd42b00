package printing

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

// all takes everything that is read ahead.
func all(a *ahead, woken <-chan struct{}) (out []string, err error) {
	for {
		command, there := a.next()
		if there {
			out = append(out, command)
			a.pass()
			continue
		}
		if over, err := a.spent(); over || err != nil {
			return out, err
		}
		<-woken
	}
}

func TestAFileIsReadAheadToItsEnd(t *testing.T) {
	text := strings.Repeat("G1 X1 ; a comment\n\n; nothing\nG1 X2\n", 1000) + "M84"
	for name, body := range map[string]io.Reader{"at once": strings.NewReader(text), "byte by byte": iotest.OneByteReader(strings.NewReader(text)), "broken": io.MultiReader(strings.NewReader(text), iotest.ErrReader(errors.New("the disk")))} {
		woken := make(chan struct{}, 1)
		got, err := all(readAhead(body, io.NopCloser(nil), nil, func() {
			select {
			case woken <- struct{}{}:
			default:
			}
		}), woken)
		if len(got) != 2001 || got[0] != "G1 X1" || got[2000] != "M84" || (err != nil) != (name == "broken") {
			t.Errorf("%s: %d commands, %v", name, len(got), err)
		}
	}
	woken := make(chan struct{}, 1)
	if _, err := all(readAhead(strings.NewReader("G1\n"+strings.Repeat("x", 2<<20)), io.NopCloser(nil), nil, func() { woken <- struct{}{} }), woken); err == nil {
		t.Error("a line of two million characters was read")
	}
}
