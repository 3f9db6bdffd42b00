package heat_test

import (
	"diathermon/internal/simprinter"
	"fmt"
	"os"
	"sort"
	"strconv"
	"testing"
	"time"
)

func TestVV(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("N"))
	f := rough()
	if x := os.Getenv("F"); x == "smooth" {
		f = smooth
	} else if x != "" {
		f = rough(simprinter.Feature(x))
	}
	type key struct {
		name  string
		known bool
	}
	ok, all := map[key]int{}, map[key]int{}
	by := map[string]int{}
	for _, c := range []struct {
		name   string
		f      simprinter.HeaterFault
		when   moment
		within time.Duration
	}{
		{"slip 25 hold", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .25}, holding, 10 * time.Minute},
		{"slip 25 draw", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .25}, drawing, 10 * time.Minute},
		{"slip 40 hold", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .4}, holding, 10 * time.Minute},
		{"slip 60 hold", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .6}, holding, 10 * time.Minute},
		{"slip 95 hold", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .95}, holding, 10 * time.Minute},
		{"slip 60 warming", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .6}, warming, 20 * time.Minute},
		{"out 80 before", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .8}, before, 20 * time.Minute},
		{"out 95 before", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .95}, before, 20 * time.Minute},
		{"slow 40 in 5 min", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .4, Over: 5 * time.Minute}, holding, 20 * time.Minute},
		{"slow 60 in 20 min", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: .6, Over: 20 * time.Minute}, holding, 30 * time.Minute},
		{"frozen hold", simprinter.HeaterFault{Kind: simprinter.Frozen}, holding, 20 * time.Minute},
		{"frozen draw", simprinter.HeaterFault{Kind: simprinter.Frozen}, drawing, 20 * time.Minute},
		{"frozen warming", simprinter.HeaterFault{Kind: simprinter.Frozen}, warming, 20 * time.Minute},
	} {
		for seed := range uint64(n) {
			for _, known := range []bool{false, true} {
				_, first, above, found := broken(t, seed+7000, f, c.f, c.when, c.within, known)
				k := key{c.name, known}
				all[k]++
				if found && above < 40 {
					ok[k]++
					by[fmt.Sprint(k, first)]++
				} else if found {
					by[fmt.Sprint(k, first, " late")]++
				} else if above < 40 {
					by[fmt.Sprint(k, " never, never hot")]++
				} else {
					by[fmt.Sprint(k, " never, hot")]++
				}
			}
		}
	}
	var l []string
	for k, v := range by {
		l = append(l, fmt.Sprintf("%s: %d", k, v))
	}
	sort.Strings(l)
	for _, s := range l {
		t.Log(s)
	}
}
