package service

import (
	"context"
	"fmt"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/notice"
	"diathermon/internal/notices"
)

// openNotices lets persons be told.
func (s *starting) openNotices(context.Context) (err error) {
	p := s.config.Printer
	s.notices, err = notices.Open(notices.Config{
		Path: s.in("notices.json"), Printer: p.Name, Colour: p.Colour, Facts: s.noticed, LetIn: s.people.LetsIn, Client: s.config.PushBy, Anywhere: s.config.PushBy != nil, Log: s.log,
		Tell: func(n notice.Notice) { s.Host.Tell(n) },
	})
	if err != nil {
		return err
	}
	s.work(s.notices.Work)
	return nil
}

// noticed is how things stand.
func (s *starting) noticed(ctx context.Context) (notice.Facts, error) {
	now, err := s.Host.Bench(ctx)
	if err != nil {
		return notice.Facts{}, err
	}
	f := notice.Facts{At: time.Now().UTC().Truncate(time.Millisecond), Bed: bed.Bed(now.Bed).State, PartOff: s.config.Heat.PartOff, Pace: s.config.Pace}
	if now.Run != nil {
		f.Run = now.Run.Record
	}
	for _, a := range now.Heat.Alarms {
		f.Alarms = append(f.Alarms, notice.Raised{ID: a.ID, Text: a.Text})
	}
	for _, h := range now.Heat.Heaters {
		if h.Heater == heat.Bed && !h.At.IsZero() {
			f.Known, f.Reading, f.Setpoint = true, h.Actual, h.Setpoint
		}
	}
	if waiting := s.line.Entries(); len(waiting) > 0 {
		f.First = notice.Entry{ID: waiting[0].ID, File: waiting[0].File}
	}
	if q := now.Routine.Question; q != nil && now.Routine.Ended.IsZero() {
		f.Asks = notice.Question{ID: fmt.Sprintf("%s %d", now.Routine.ID, q.Number), Routine: now.Routine.Routine, Text: q.Text}
	}
	if u := now.Heat.WarmUp; u != nil && (now.Run == nil || !now.Run.State.Going()) {
		f.WarmUp = notice.WarmUp{Name: u.Name, Begun: u.Begun, Ready: u.Done}
	}
	return f, nil
}
