package heat_test

import (
	"diathermon/internal/simprinter"
	"os"
	"slices"
	"strconv"
	"testing"
)

func TestWW(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("N"))
	f := rough()
	if x := os.Getenv("F"); x == "smooth" {
		f = smooth
	} else if x != "" {
		f = rough(simprinter.Feature(x))
	}
	for name, s := range found(t, uint64(n), f) {
		slices.Sort(s)
		t.Logf("%-40s median %.0f most %.0f", name, s[len(s)/2], s[len(s)-1])
	}
}
