package bed_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/bed"
)

func TestABedIsOccupiedUntilSomebodySaysOtherwise(t *testing.T) {
	at := time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)
	later := func(n int) time.Time { return at.Add(time.Duration(n) * time.Minute) }
	b := bed.New(at)
	b, err := b.Say(bed.Clear, "Ilse", at, "", later(1))
	if err != nil || b.State != bed.Clear || b.By != "Ilse" {
		t.Fatalf("%+v, %v", b, err)
	}
	if same, err := b.Say(bed.Clear, "Bruno", time.Time{}, "", later(2)); err != nil || same != b {
		t.Errorf("said twice it is %+v, %v", same, err)
	}
	b = b.Lay("r1", "cap.gcode", later(3))
	if b.State != bed.Occupied || !strings.Contains(b.Why, "cap.gcode") || b.Lay("r1", "cap.gcode", later(4)) != b {
		t.Errorf("after a run it is %+v", b)
	}
	for _, c := range []struct {
		state bed.State
		seen  time.Time
		lying string
		want  error
	}{{bed.Clear, later(1), "", bed.ErrLater}, {bed.Clear, b.Since, "cap.gcode", bed.ErrLaid}, {"swept", b.Since, "", bed.ErrState}, {bed.Unknown, b.Since, "", bed.ErrState}} {
		if got, err := b.Say(c.state, "Ilse", c.seen, c.lying, later(5)); !errors.Is(err, c.want) || got != b {
			t.Errorf("%+v: %+v, %v", c, got, err)
		}
	}
	if b, err = b.Say(bed.Clear, "Ilse", b.Since, "", later(6)); err != nil || b.State != bed.Clear || b.File != "cap.gcode" {
		t.Errorf("cleared it is %+v, %v", b, err)
	}
	if b = b.Lay("r1", "cap.gcode", later(7)); b.State != bed.Occupied { // a second run of the same ID cannot be, but plastic is plastic
		t.Errorf("laid on again it is %+v", b)
	}
}

func TestAfterAPowerCutNobodyKnows(t *testing.T) {
	at := time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		state bed.State
		ended bool
		want  bed.State
	}{{"", true, bed.Unknown}, {bed.Clear, true, bed.Clear}, {bed.Clear, false, bed.Unknown}, {bed.Occupied, true, bed.Occupied}, {bed.Occupied, false, bed.Occupied}, {bed.Unknown, true, bed.Unknown}} {
		if got := (bed.Bed{State: c.state, Since: at, Why: "it is"}).Found(c.ended, at.Add(time.Hour)); got.State != c.want || got.Why == "" {
			t.Errorf("%s, ended %v: %+v", c.state, c.ended, got)
		}
	}
}
