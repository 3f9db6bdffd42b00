package heat_test

import (
	"diathermon/internal/simprinter"
	"os"
	"strconv"
	"testing"
	"time"
)

func TestZZ(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("N"))
	h, _ := strconv.Atoi(os.Getenv("H"))
	f := rough()
	if x := os.Getenv("F"); x == "smooth" {
		f = smooth
	} else if x != "" {
		f = rough(simprinter.Feature(x))
	}
	t.Log(falseAlarms(t, n, time.Duration(h)*time.Hour, f))
}
