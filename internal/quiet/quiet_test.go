package quiet_test

import (
	"bytes"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/quiet"
)

// listen returns a gathering log and what it has said so far, a line a record.
func listen() (*slog.Logger, func() []string) {
	var out bytes.Buffer
	log := slog.New(quiet.New(slog.NewTextHandler(&out, &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		if a.Key == slog.TimeKey {
			return slog.Attr{}
		}
		return a
	}})))
	return log, func() []string {
		synctest.Wait()
		return strings.Split(strings.TrimSpace(out.String()), "\n")
	}
}

func TestRepeatsAreCountedAndTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		log, said := listen()
		for range 100 {
			log.Warn("halted")
		}
		log.Info("run begins", "run", 1)
		log.With("part", "shelf").Error("the disk is full")
		log.With("part", "log").Error("the disk is full")
		if got := said(); len(got) != 4 {
			t.Errorf("at once it said %q", got)
		}
		time.Sleep(quiet.Window + time.Second)
		got := said()
		if len(got) != 5 || !strings.Contains(got[4], "halted") || !strings.Contains(got[4], "more_like_it=99") {
			t.Errorf("after a minute it had said %q", got)
		}
		log.Warn("halted")
		if got := said(); len(got) != 6 {
			t.Errorf("a later one is told at once: %q", got)
		}
		time.Sleep(2 * quiet.Window)
		if got := said(); len(got) != 6 {
			t.Errorf("of one that was not repeated nothing more is said: %q", got)
		}
	})
}

func TestOneMessageWithManyFacesIsGatheredToo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		log, said := listen()
		for i := range 1000 {
			log.Warn("refused", "address", fmt.Sprintf("192.0.2.%d", i))
		}
		if got := said(); len(got) > 30 || len(got) < 10 {
			t.Errorf("%d lines were said at once", len(got))
		}
		time.Sleep(quiet.Window + time.Second)
		got := said()
		counted := 0
		for _, line := range got {
			if _, n, ok := strings.Cut(line, "more_like_it="); ok {
				fmt.Sscan(n, &counted)
			}
		}
		if told := len(got) - 1; told+counted != 1000 {
			t.Errorf("%d were told and %d counted, of 1000", told, counted)
		}
	})
}
