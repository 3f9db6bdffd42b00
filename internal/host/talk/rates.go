package talk

import (
	"strconv"
	"strings"
)

// rates are tried in this order where none is configured.
var rates = []int{115200, 250000, 1000000, 500000, 230400, 57600, 38400, 19200, 9600}

// tried says in words which baud rates have been.
func tried(n int) string {
	if n >= len(rates) {
		return "all baud rates"
	}
	words := make([]string, n)
	for i := range words {
		words[i] = strconv.Itoa(rates[i])
	}
	return strings.Join(words, ", ") + " baud"
}
