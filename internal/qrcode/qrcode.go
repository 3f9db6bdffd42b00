// Package qrcode draws an address as a QR code (ISO/IEC 18004) that a phone's camera
// reads: as a picture for a page, and in characters for a terminal.
package qrcode

import (
	"fmt"
	"io"
	"strings"

	"rsc.io/qr"
)

const quiet = 4 // modules around a code (ISO/IEC 18004)

// SVG draws a text: dots for its modules, and rounded finders, in ink on paper in any
// theme, since cameras want dark on light.
func SVG(w io.Writer, text string) error {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return err
	}
	side := code.Size + 2*quiet
	fmt.Fprintf(w, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" role="img"><rect width="%d" height="%d" fill="#f4f1ec"/><g fill="#23201c">`, side, side, side, side)
	for y := range code.Size {
		for x := range code.Size {
			if code.Black(x, y) && !finder(x, y, code.Size) {
				fmt.Fprintf(w, `<rect x="%.2f" y="%.2f" width=".96" height=".96" rx=".3"/>`, float64(x+quiet)+0.02, float64(y+quiet)+0.02)
			}
		}
	}
	for _, at := range [][2]int{{quiet, quiet}, {quiet + code.Size - 7, quiet}, {quiet, quiet + code.Size - 7}} {
		fmt.Fprintf(w, `<rect x="%d.5" y="%d.5" width="6" height="6" rx="1.4" fill="none" stroke="#23201c"/><rect x="%d" y="%d" width="3" height="3" rx=".9" fill="#a8431b"/>`, at[0], at[1], at[0]+2, at[1]+2)
	}
	_, err = fmt.Fprint(w, `</g></svg>`)
	return err
}

// finder reports whether a module belongs to one of the three squares in the corners.
func finder(x, y, size int) bool {
	return x < 7 && y < 7 || x >= size-7 && y < 7 || x < 7 && y >= size-7
}

// Terminal draws a text in characters of half a height, two modules each, dark on light
// whatever the terminal's own colours are. Its quiet zone is half of the standard's,
// which cameras bear and 80 columns want.
func Terminal(text string) (string, error) {
	code, err := qr.Encode(text, qr.L)
	if err != nil {
		return "", err
	}
	const around = quiet / 2
	var b strings.Builder
	for y := -around; y < code.Size+around; y += 2 {
		b.WriteString("\x1b[38;5;16;48;5;231m")
		for x := -around; x < code.Size+around; x++ {
			switch upper, lower := code.Black(x, y), code.Black(x, y+1); {
			case upper && lower:
				b.WriteRune('█')
			case upper:
				b.WriteRune('▀')
			case lower:
				b.WriteRune('▄')
			default:
				b.WriteRune(' ')
			}
		}
		b.WriteString("\x1b[0m\n")
	}
	return b.String(), nil
}
