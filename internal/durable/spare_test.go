package durable

import (
	"errors"
	"testing"
)

func TestWhatAPrintNeedsIsLeftFree(t *testing.T) {
	before := room
	defer func() { room = before }()
	for _, of := range []struct {
		free, total, more int64
		full              bool
	}{
		{10 << 30, 32 << 30, 1 << 30, false},
		{300 << 20, 32 << 30, 10 << 20, false},
		{300 << 20, 32 << 30, 100 << 20, true},
		{255 << 20, 32 << 30, 0, true},
		{30 << 20, 400 << 20, 5 << 20, false}, // a small disk
		{30 << 20, 400 << 20, 20 << 20, true},
		{10 << 30, 32 << 30, -1, false}, // it is not known how many
	} {
		room = func(string) (int64, int64, error) { return of.free, of.total, nil }
		if err := Spare("", of.more); errors.Is(err, ErrSpare) != of.full {
			t.Errorf("%+v: %v", of, err)
		}
	}
}
