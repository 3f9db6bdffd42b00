package gcode

import "strconv"

// Checksum is the exclusive or of all bytes, the trade's check on a serial line.
func Checksum(b []byte) byte {
	var sum byte
	for _, c := range b {
		sum ^= c
	}
	return sum
}

// AppendNumbered appends command to dst as a numbered, checksummed line with its
// line end: "N12 G1 X5*97\n".
func AppendNumbered(dst []byte, number int, command []byte) []byte {
	start := len(dst)
	dst = append(dst, 'N')
	dst = strconv.AppendInt(dst, int64(number), 10)
	dst = append(dst, ' ')
	dst = append(dst, command...)
	sum := Checksum(dst[start:])
	dst = append(dst, '*')
	dst = strconv.AppendInt(dst, int64(sum), 10)
	return append(dst, '\n')
}

// NumberedSize is the most bytes that AppendNumbered appends for a command of
// that length.
func NumberedSize(number, command int) int { return len("N *255\n") + Digits(number) + command }

// Digits is how many digits a number of a line has.
func Digits(number int) int {
	digits := 1
	for n := number; n >= 10; n /= 10 {
		digits++
	}
	return digits
}
