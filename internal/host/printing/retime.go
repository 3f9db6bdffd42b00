package printing

import (
	"context"
	"fmt"
	"io"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
	"diathermon/internal/idle"
)

// A timing is how long a file's moves take as a run makes them.
type timing struct {
	of    trim.Trim // what of it bears on moves
	asks  bool      // it is being worked out
	known bool      // the course is that of the moves as they become
}

// retime works out anew how long the file's moves take, where they are made otherwise than
// a moment ago: by planning all of them as they become, since a machine at half its speed
// does not take twice as long. Until that is known the file's own times stand, stretched.
func (p *Printing) retime(j *job) {
	now := &j.outlook.timing
	t := j.life.Trim().Moves()
	if now.asks || t.Equal(now.of) {
		return
	}
	*now = timing{of: t}
	p.expect(j, j.file.Course, j.file.Duration)
	j.outlook.pace = j.outlook.pace.Anew()
	if t.None() {
		return
	}
	now.asks = true
	r := reading{files: p.cfg.Files, file: j.file, how: p.trimmed(j.file, nil), differs: t, with: toolpath.Options{Limits: motion.Ordinary}}
	if p.cfg.Reading != nil {
		r.with = p.cfg.Reading()
	}
	p.loop.Aside(func() func() {
		var found toolpath.Summary
		var err error
		idle.Work(context.Background(), func(ctx context.Context) { found, err = r.read(ctx) })
		return func() {
			now.asks = false
			switch {
			case p.job != j:
			case err != nil:
				p.loop.Log.Warn("how long the run takes as it was changed is only estimated", "error", err)
			default:
				now.known = true
				p.expect(j, found.Course, found.Duration)
				j.outlook.pace = j.outlook.pace.Anew()
				p.publish()
			}
		}
	})
}

// A reading is what a file's times are worked out from.
type reading struct {
	files   Files
	file    toolpath.File
	how     trim.File
	differs trim.Trim
	with    toolpath.Options
}

func (r reading) read(ctx context.Context) (toolpath.Summary, error) {
	body, err := r.files.Open(ctx, r.file)
	if err != nil {
		return toolpath.Summary{}, err
	}
	defer body.Close()
	if most := r.differs.Most; most > 0 { // said besides, before the first line that it bears on
		r.with.Limits.Print, r.with.Limits.Travel = min(r.with.Limits.Print, most), min(r.with.Limits.Travel, most)
	}
	becomes := trim.New(r.how, trim.Schedule{{Trim: r.differs}})
	found, err := toolpath.Scan(&lines{next: becomes.Through(run.Commands(body))}, r.with)
	if err == nil && found.Commands != r.file.Commands {
		err = fmt.Errorf("it has %d commands and was read to have %d", r.file.Commands, found.Commands)
	}
	return found, err
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
