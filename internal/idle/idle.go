// Package idle does work that nobody waits for, each in a process of its own that has the
// lowest priority, so that it takes nothing from a printer.
//
// A thread of the lowest priority would not do. Whenever Go stops its threads for a moment
// all of them wait for that one, and beside programs that take all of the processor it gets
// its turn a second later. A process of its own keeps nobody waiting; and what it does
// wrong, a panic or memory without end, is its own as well.
//
// The process is this program again. A Kind of work says what it does there:
//
//	var counting = idle.New("counting", count)
//
//	func init() { counting.Serve() }
package idle

import (
	"bytes"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
)

// program is this one, whatever has taken the place of its file since it was started.
const program = "/proc/self/exe"

// A Kind of work. What is asked of it, what it notes and what comes of it have nothing but
// exported fields. Make one with New, as a variable of its package.
type Kind[Request, Note, Result any] struct {
	name string
	do   Do[Request, Note, Result]
}

// Do does what a request asks for, with the files that come with it, and now and then
// notes how far it is. It is alone in its process, and ended with it.
type Do[Request, Note, Result any] func(r Request, files []*os.File, note func(Note)) (Result, error)

// New is a kind of work that goes by a name. An init function of the same package has to
// call Serve.
func New[Request, Note, Result any](name string, do Do[Request, Note, Result]) Kind[Request, Note, Result] {
	return Kind[Request, Note, Result]{name, do}
}

// An order is what the process is told.
type order[Request any] struct {
	Request Request
	Files   int
}

// A word is what the process says.
type word[Note, Result any] struct {
	Last   bool
	Note   Note   // unless it is the last one
	Result Result // otherwise
	Wrong  string // or this
}

// Work has a request done and returns what comes of it. Note is called until then, by the
// same goroutine. When the context ends it returns at once, with the context's error, and
// lets the process end when that gets its turn. Of an error of the work's own its words are
// left.
func (k Kind[Request, Note, Result]) Work(ctx context.Context, r Request, files []*os.File, note func(Note)) (Result, error) {
	var none Result
	if !served[k.name] {
		panic("idle: nothing serves " + k.name)
	}
	var told bytes.Buffer
	if err := gob.NewEncoder(&told).Encode(order[Request]{r, len(files)}); err != nil {
		return none, err
	}
	p, err := begin(k.name, &told, files)
	if err != nil {
		return none, fmt.Errorf("no process can be started for it: %w", err)
	}
	words, left := make(chan word[Note, Result]), make(chan struct{})
	defer close(left)
	ended := make(chan error, 1)
	go func() {
		defer close(words)
		defer func() { ended <- p.end() }()
		for in := gob.NewDecoder(p.says); ; {
			var w word[Note, Result]
			if in.Decode(&w) != nil {
				return
			}
			select {
			case words <- w:
			case <-left:
				return
			}
		}
	}()
	for {
		select {
		case <-ctx.Done():
			p.cmd.Process.Kill()
			return none, ctx.Err()
		case w, more := <-words:
			switch {
			case !more:
				return none, <-ended
			case !w.Last:
				note(w.Note)
			case w.Wrong != "":
				return none, errors.New(w.Wrong)
			default:
				return w.Result, nil
			}
		}
	}
}

// A process does one piece of work.
type process struct {
	cmd   *exec.Cmd
	says  io.Reader
	cries cries
}

// begin starts a process and hands it what it is to do.
func begin(name string, told io.Reader, files []*os.File) (*process, error) {
	p := &process{cmd: exec.Command(program)}
	p.cmd.Args = []string{os.Args[0], name}
	p.cmd.Env = []string{asks + "=" + name}
	p.cmd.ExtraFiles = files
	p.cmd.Stderr = &p.cries
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // what a terminal says is for the host
	in, err := p.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p.says = out
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	go io.Copy(in, told) // it reads when it gets its turn, and ends once nobody has hold of this
	return p, nil
}

// end waits for the end of the process, and says in words how it came to that.
func (p *process) end() error {
	err := p.cmd.Wait()
	if said := p.cries.first(); said != "" {
		return fmt.Errorf("its process broke down: %s", said)
	}
	return fmt.Errorf("its process was ended: %v", err)
}

// mostCries is how many bytes are kept of what a process cries as it breaks down.
const mostCries = 4 << 10

// cries are those bytes.
type cries struct{ said []byte }

func (c *cries) Write(p []byte) (int, error) {
	c.said = append(c.said, p[:min(len(p), mostCries-len(c.said))]...)
	return len(p), nil
}

// first is their first line.
func (c *cries) first() string {
	line, _, _ := strings.Cut(string(c.said), "\n")
	return line
}
