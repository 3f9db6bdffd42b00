// Plant plants small mistakes into the code, one after another, and looks whether the
// tests of the room notice them. The tree stays as it is: the compiler is shown
// another file in the place of the one with the mistake.
//
//	go run ./tools/plant [-only TEXT] tools/plant/mistakes.txt
//
// A mistake is told by the file, the rooms whose tests are to notice it (its own if
// none is named), what a line holds and what it is to hold instead:
//
//	internal/core/run/point.go
//	- case 104, 109:
//	+ case 104:
package main

import (
	"bufio"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

type mistake struct {
	file     string
	rooms    []string
	old, new string
}

func main() {
	only := flag.String("only", "", "plant only mistakes whose file or text has this in it")
	flag.Parse()
	mistakes, err := read(flag.Arg(0))
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	planted, missed, useless := 0, 0, 0
	for _, m := range mistakes {
		if !strings.Contains(m.file+m.old+m.new, *only) {
			continue
		}
		begun := time.Now()
		noticed, err := m.plant()
		if err != nil {
			fmt.Fprintf(os.Stderr, "%s: %q cannot be planted: %v\n", m.file, m.old, err)
			useless++
			continue
		}
		planted++
		said := "noticed"
		if !noticed {
			missed++
			said = "NOT NOTICED"
		}
		fmt.Printf("%-11s %3.0f s  %s\n    - %s\n    + %s\n", said, time.Since(begun).Seconds(), m.file, m.old, m.new)
	}
	fmt.Printf("%d planted, %d noticed\n", planted, planted-missed)
	if missed+useless > 0 {
		os.Exit(1)
	}
}

// read reads mistakes.
func read(path string) ([]mistake, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []mistake
	var m mistake
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		text := lines.Text()
		switch {
		case text == "" || strings.HasPrefix(text, "#"):
		case strings.HasPrefix(text, "- "):
			m.old = text[2:]
		case strings.HasPrefix(text, "+ "):
			m.new = text[2:]
			out = append(out, m)
		default:
			words := strings.Fields(text)
			m = mistake{file: words[0], rooms: words[1:]}
			if len(m.rooms) == 0 {
				m.rooms = []string{filepath.Dir(m.file)}
			}
		}
	}
	return out, lines.Err()
}

// plant reports whether the tests notice the mistake.
func (m mistake) plant() (noticed bool, err error) {
	text, err := os.ReadFile(m.file)
	if err != nil {
		return false, err
	}
	if n := strings.Count(string(text), m.old); n != 1 {
		return false, fmt.Errorf("it stands there %d times", n)
	}
	dir, err := os.MkdirTemp("", "plant-")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(dir)
	spoilt := filepath.Join(dir, "spoilt.go")
	if err := os.WriteFile(spoilt, []byte(strings.Replace(string(text), m.old, m.new, 1)), 0o600); err != nil {
		return false, err
	}
	whole, err := filepath.Abs(m.file)
	if err != nil {
		return false, err
	}
	overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{whole: spoilt}})
	if err != nil {
		return false, err
	}
	other := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(other, overlay, 0o600); err != nil {
		return false, err
	}
	arguments := []string{"test", "-short", "-overlay", other, "-failfast", "-count=1", "-timeout", "5m"}
	for _, room := range m.rooms {
		arguments = append(arguments, "./"+room)
	}
	out, err := exec.Command("go", arguments...).CombinedOutput()
	if err == nil {
		return false, nil
	}
	if strings.Contains(string(out), "[build failed]") || strings.Contains(string(out), "[setup failed]") {
		return false, fmt.Errorf("it does not compile:\n%s", out)
	}
	return true, nil
}
