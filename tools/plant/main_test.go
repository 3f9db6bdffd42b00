package main

import (
	"os"
	"strings"
	"testing"
)

// Code moves on, and a mistake that stands nowhere any more would be planted nowhere.
func TestEveryMistakeHasItsPlace(t *testing.T) {
	t.Chdir("../..")
	all, err := read("tools/plant/mistakes.txt")
	if err != nil || len(all) < 100 {
		t.Fatalf("%d mistakes are listed, %v", len(all), err)
	}
	for _, m := range all {
		text, err := os.ReadFile(m.file)
		if n := strings.Count(string(text), m.old); err != nil || n != 1 || m.new == m.old {
			t.Errorf("%s: %q stands there %d times, %v", m.file, m.old, n, err)
		}
	}
}
