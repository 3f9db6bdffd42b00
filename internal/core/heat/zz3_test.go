package heat_test

import (
	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"
)

// closest shares over printers
func TestXX(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("N"))
	h, _ := strconv.Atoi(os.Getenv("H"))
	f := rough()
	if x := os.Getenv("F"); x == "smooth" {
		f = smooth
	} else if x != "" {
		f = rough(simprinter.Feature(x))
	}
	var mu sync.Mutex
	var wg sync.WaitGroup
	worst := map[string]float64{}
	nears := map[string]int{}
	may := map[string]map[heat.Action]int{}
	slots := make(chan int, 2)
	for seed := range uint64(n) {
		wg.Add(1)
		go func() {
			defer wg.Done()
			slots <- 1
			defer func() { <-slots }()
			w := newWatched(f(seed + 300))
			rng := rand.New(rand.NewPCG(seed, 78))
			for w.now < time.Duration(h)*time.Hour {
				w.live(rng)
			}
			mu.Lock()
			defer mu.Unlock()
			for i, a := range w.alarms {
				t.Logf("printer %d, after %d s (%s), %s: %s: %s", seed+300, int(w.at[i].Seconds()), w.at[i], a.Action, a.Guard, a.Text)
			}
			for hh, g := range w.guards {
				for name, s := range g.Standings {
					k := string(hh) + " " + string(name)
					worst[k] = max(worst[k], s.Closest)
					if s.Closest >= 0.7 {
						nears[k]++
					}
					if may[k] == nil {
						may[k] = map[heat.Action]int{}
					}
					may[k][s.May(name)]++
				}
			}
		}()
	}
	wg.Wait()
	for k, v := range worst {
		t.Logf("%-20s closest %.2f, near on %d, may %v", k, v, nears[k], may[k])
	}
}
