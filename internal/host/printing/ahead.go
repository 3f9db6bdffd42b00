package printing

import (
	"bufio"
	"io"
	"sync"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/stock"
)

// ahead reads a file's commands ahead of the printer, so that a slow disk never
// makes the host wait.
type ahead struct {
	lines chan []string // what has been read; closed at the file's end
	batch []string
	eof   bool
	err   error // why it ended before the file did; read after lines is closed
	slots stock.Mapping
	wake  func()
	quit  func()
}

// batchLines is how many lines are handed over at once, and batchesAhead how many
// such batches wait.
const (
	batchLines   = 64
	batchesAhead = 4
)

// readAhead reads body, whose tools are printed from those slots, and closes closer when it
// is done or not wanted any more. It calls wake when there is something to take.
func readAhead(body io.Reader, closer io.Closer, slots stock.Mapping, wake func()) *ahead {
	quit := make(chan struct{})
	a := &ahead{lines: make(chan []string, batchesAhead), slots: slots, wake: wake, quit: sync.OnceFunc(func() { close(quit) })}
	go a.read(body, closer, quit)
	return a
}

func (a *ahead) read(body io.Reader, closer io.Closer, quit <-chan struct{}) {
	defer a.wake()
	defer close(a.lines)
	defer closer.Close()
	lines := bufio.NewScanner(body)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	batch := make([]string, 0, batchLines)
	hand := func() bool {
		select {
		case a.lines <- batch:
			batch = make([]string, 0, batchLines)
			a.wake()
			return true
		case <-quit:
			return false
		}
	}
	for lines.Scan() {
		command := gcode.Command(lines.Bytes())
		if len(command) == 0 {
			continue
		}
		if batch = append(batch, a.slots.Line(string(command))); len(batch) == batchLines && !hand() {
			return
		}
	}
	a.err = lines.Err()
	if len(batch) > 0 {
		hand()
	}
}

// close lets the reading end.
func (a *ahead) close() {
	if a != nil {
		a.quit()
	}
}

// hungry reports whether lines are waited for.
func (a *ahead) hungry() bool { return a != nil && len(a.batch) == 0 && !a.eof }

// next is the next command, if it has been read.
func (a *ahead) next() (string, bool) {
	if a.hungry() {
		select {
		case batch, more := <-a.lines:
			a.batch, a.eof = batch, !more
		default:
		}
	}
	if len(a.batch) == 0 {
		return "", false
	}
	return a.batch[0], true
}

// pass goes on to the command behind the next.
func (a *ahead) pass() { a.batch = a.batch[1:] }

// spent reports whether there are no more commands, or why they cannot be read.
func (a *ahead) spent() (bool, error) {
	if !a.eof || len(a.batch) > 0 {
		return false, nil
	}
	return a.err == nil, a.err
}

// back puts commands before the next.
func (a *ahead) back(commands []string) { a.batch = append(commands, a.batch...) }
