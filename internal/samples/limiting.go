package samples

import (
	"bytes"
	"fmt"
	"io"
	"strings"
)

// Limiting is a part whose file sets limits of the printer's axes, at its beginning and with
// its layers, as slicers let it.
type Limiting struct{ Part }

// Write writes the file.
func (l Limiting) Write(w io.Writer) error {
	var body bytes.Buffer
	if err := l.Part.Write(&body); err != nil {
		return err
	}
	layer := 0
	for line := range strings.Lines(body.String()) {
		if strings.HasPrefix(line, "; layer ") {
			layer++
			line += fmt.Sprintf("M204 P%d T2500\n", []int{1800, 500, 2500}[min(layer%8, 2)])
		}
		if line == "G21 ; millimetres\n" {
			line += "M201 X2500 Y2500\nM205 X9 Y9\n"
		}
		if _, err := io.WriteString(w, line); err != nil {
			return err
		}
	}
	return nil
}
