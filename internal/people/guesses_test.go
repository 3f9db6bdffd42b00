package people

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

func TestGuessingIsSlowAndTheOwnerIsNotLockedOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuesses(codesOfOne, codesOfAll)
		ctx, end := context.WithCancel(t.Context())
		looked := 0
		var mu sync.Mutex
		for range 50 {
			go func() {
				for ctx.Err() == nil {
					if g.wrong(ctx, "192.0.2.7") == 0 {
						mu.Lock()
						looked++
						mu.Unlock()
						continue
					}
					time.Sleep(time.Millisecond)
				}
			}()
		}
		time.Sleep(time.Minute)
		mu.Lock()
		if looked > 40 {
			t.Errorf("one address had %d guesses looked at in a minute", looked)
		}
		mu.Unlock()
		begun := time.Now()
		if wait := g.wrong(ctx, "198.51.100.1"); wait != 0 || time.Since(begun) > time.Second {
			t.Errorf("a mistake from another address waited %s and was sent away for %s", time.Since(begun), wait)
		}
		end()
		time.Sleep(time.Minute) // they see it
	})
	synctest.Test(t, func(t *testing.T) {
		g := newGuesses(codesOfOne, codesOfAll)
		looked := 0
		for i := range 60 * 100 { // as many addresses as there are guesses
			if g.reserve(fmt.Sprintf("2001:db8:%x:%x::1", i/100, i%100), time.Now()) <= guessWait {
				looked++
			}
			time.Sleep(10 * time.Millisecond)
		}
		if looked > 400 {
			t.Errorf("all together had %d guesses looked at in a minute", looked)
		}
	})
}
