package printing

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
	"diathermon/internal/digest"
	"diathermon/internal/idle"
)

// A timing is how long a file's moves take as a run makes them.
type timing struct {
	of    trim.Trim          // what of it bears on moves
	stop  context.CancelFunc // ends what works it out; nil: nothing does
	known bool               // the course is that of the moves as they become
}

// end lets what works it out end.
func (t *timing) end() {
	if t.stop != nil {
		t.stop()
	}
}

// retime works out anew how long the file's moves take, where they are made otherwise than
// a moment ago: by planning all of them as they become, since a machine at half its speed
// does not take twice as long. Until that is known the file's own times stand, stretched.
func (p *Printing) retime(j *job) {
	now := &j.outlook.timing
	t := j.life.Trim().Moves()
	if t.Equal(now.of) {
		return
	}
	now.end()
	*now = timing{of: t}
	p.expect(j, j.file.Course, j.file.Duration)
	j.outlook.pace = j.outlook.pace.Anew()
	if t.None() {
		return
	}
	r := reading{
		Digest: j.file.Digest, Commands: j.file.Commands, How: p.trimmed(j.file, nil), Differs: t,
		With: toolpath.Options{Limits: motion.Ordinary},
	}
	if p.cfg.Reading != nil {
		r.With = p.cfg.Reading()
	}
	ctx, stop := context.WithCancel(p.loop.Life())
	now.stop = stop
	name := j.file.Name
	p.loop.Aside(func() func() {
		found, err := r.of(ctx, p.cfg.Files, name)
		return func() {
			switch {
			case ctx.Err() != nil: // nobody wants to know any more
				return
			case err != nil:
				p.loop.Log.Warn("how long the run takes as it was changed is only estimated", "error", err)
			default:
				now.known = true
				p.expect(j, found.Course, found.Duration)
				j.outlook.pace = j.outlook.pace.Anew()
				p.publish()
			}
			now.end()
		}
	})
}

// A reading is what a file's times are worked out from.
type reading struct {
	Digest   string
	Commands int
	How      trim.File
	Differs  trim.Trim
	With     toolpath.Options
}

// A forecast is what comes of it.
type forecast struct {
	Course   run.Course
	Duration time.Duration
}

// retiming is the work, which nobody waits for.
var retiming = idle.New("retime", func(r reading, files []*os.File, _ func(struct{})) (forecast, error) {
	return r.read(files[0])
})

func init() { retiming.Serve() }

// of has the file of that name read.
func (r reading) of(ctx context.Context, files Files, name string) (forecast, error) {
	body, err := files.Read(name)
	if err != nil {
		return forecast{}, err
	}
	defer body.Close()
	return retiming.Work(ctx, r, []*os.File{body}, func(struct{}) {})
}

// read plans the moves of the file that body holds, as they become.
func (r reading) read(body io.Reader) (forecast, error) {
	if most := r.Differs.Acceleration; most > 0 { // said besides, before the first line that it bears on
		r.With.Limits.Print, r.With.Limits.Travel = min(r.With.Limits.Print, most), min(r.With.Limits.Travel, most)
	}
	becomes, sum := trim.New(r.How, trim.Schedule{{Trim: r.Differs}}), digest.Like(r.Digest)
	found, err := toolpath.Scan(&lines{next: becomes.Through(run.Commands(io.TeeReader(body, sum)))}, r.With)
	switch {
	case err != nil:
	case sum.String() != r.Digest:
		err = digest.ErrOther
	case found.Commands != r.Commands:
		err = fmt.Errorf("it has %d commands and was read to have %d", r.Commands, found.Commands)
	}
	return forecast{found.Course, found.Duration}, err
}

// lines are commands as the text of a file.
type lines struct {
	next func() (string, bool)
	rest string
}

// Read reads as much of one line as there is room for.
func (l *lines) Read(p []byte) (int, error) {
	if l.rest == "" {
		command, ok := l.next()
		if !ok {
			return 0, io.EOF
		}
		l.rest = command + "\n"
	}
	n := copy(p, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}
