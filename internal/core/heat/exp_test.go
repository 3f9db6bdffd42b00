package heat_test

import (
	"fmt"
	"os"
	"runtime"
	"strconv"
	"sync"
	"testing"
	"time"

	"diathermon/internal/simprinter"
)

func TestExp(t *testing.T) {
	printers, _ := strconv.Atoi(os.Getenv("N"))
	if printers == 0 {
		t.Skip()
	}
	base, _ := strconv.Atoi(os.Getenv("BASE"))
	var only []simprinter.Feature
	if f := os.Getenv("F"); f != "" {
		only = append(only, simprinter.Feature(f))
	}
	printer := rough(only...)
	if os.Getenv("SMOOTH") != "" {
		printer = smooth
	}
	var mu sync.Mutex
	var done sync.WaitGroup
	slots := make(chan bool, runtime.GOMAXPROCS(0))
	falses := 0
	var hours float64
	found, all, enough, enoughFound, littleFound := map[float64]int{}, map[float64]int{}, map[float64]int{}, map[float64]int{}, map[float64]int{}
	for seed := range uint64(printers) {
		slots <- true
		done.Go(func() {
			defer func() { <-slots }()
			if printer(seed+uint64(base)).Nozzle.Nature.Told == simprinter.TellsNone {
				return
			}
			d := newDraws(printer(seed+uint64(base)), 2)
			d.alarms = 0
			hrs := 0.0
			for i, flow := range []float64{2, 4, 6, 8} {
				d.blocked = false
				d.Ambient = 12 + 20*d.rng.Float64()
				d.Set(0, 0)
				d.Flow, d.asked, d.Fan = 0, 0, 0
				d.pass(20 * time.Minute)
				d.Set(190+50*d.rng.Float64(), 50+40*d.rng.Float64())
				d.pass(6 * time.Minute)
				begun := d.now
				d.draw(flow, time.Duration(20+d.rng.IntN(60))*time.Minute)
				mu.Lock()
				hours += (d.now - begun).Hours()
				if d.alarms > 0 {
					fmt.Printf("printer %d: %d false alarms at flow %g fan %g; need %.3f left %.4f\n", seed, d.alarms, flow, d.Fan, d.watch.Need.Mean, d.watch.Need.Left)
				}
				falses += d.alarms
				mu.Unlock()
				hrs += (d.now - begun).Hours()
				d.alarms, d.blocked = 0, true
				isEnough := d.state.Enough
				was := false
				for b := d.now; d.now < b+5*time.Minute; {
					d.draw(flow, time.Second)
					if d.state.Stopped || d.alarms > 0 {
						was = true
						break
					}
				}
				d.alarms = 0
				mu.Lock()
				all[flow]++
				if was {
					found[flow]++
				}
				if isEnough {
					enough[flow]++
					if was {
						enoughFound[flow]++
					}
				} else if was {
					littleFound[flow]++
				}
				if i == 3 && !was && os.Getenv("V") != "" {
					fmt.Printf("printer %d switched %.1f wander %.2f late %.2f enough %v found %v: mean %.3f left %.4f sd melt %.4f\n", seed, printer(seed+uint64(base)).Nozzle.Nature.Switched, printer(seed+uint64(base)).Nozzle.Nature.Wander, printer(seed+uint64(base)).House.Reports.Late, isEnough, was, d.watch.Need.Mean, d.watch.Need.Left, d.watch.Need.Var[5][5])
				}
				mu.Unlock()
			}
		})
	}
	done.Wait()
	for _, flow := range []float64{2, 4, 6, 8} {
		fmt.Printf("flow %g: found %d of %d; enough %d of which %d found, little found %d\n", flow, found[flow], all[flow], enough[flow], enoughFound[flow], littleFound[flow])
	}
	fmt.Printf("false %d in %.0f h\n", falses, hours)
}
