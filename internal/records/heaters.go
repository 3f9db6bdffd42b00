package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"diathermon/internal/core/heat"
)

// alarmRow is a row of alarms.
type alarmRow struct {
	ID           string `gorm:"primaryKey"`
	At           time.Time
	Heater       string
	Guard        string
	Action       string
	Text         string
	Acknowledged *time.Time
	By           string
	Verdict      string
	Reason       string
}

// TableName tells GORM the table of alarmRow.
func (alarmRow) TableName() string { return "alarms" }

// Alarms returns at most limit alarms, the newest first; of those that nobody has
// acknowledged if waiting.
func (r *Records) Alarms(ctx context.Context, waiting bool, limit int) ([]heat.Alarm, error) {
	q := r.db.WithContext(ctx).Order("at DESC").Limit(limit)
	if waiting {
		q = q.Where("acknowledged IS NULL")
	}
	var rows []alarmRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]heat.Alarm, len(rows))
	for i, a := range rows {
		out[i] = heat.Alarm{
			ID: a.ID, At: a.At.UTC(), Heater: heat.Heater(a.Heater), Guard: heat.GuardName(a.Guard), Action: heat.Action(a.Action), Text: a.Text,
			Acknowledged: value(a.Acknowledged), By: a.By, Verdict: heat.Verdict(a.Verdict), Reason: a.Reason,
		}
	}
	return out, nil
}

// episodeRow is a row of heat_episodes.
type episodeRow struct {
	Heater                                         string    `gorm:"primaryKey"`
	Kind                                           string    `gorm:"primaryKey"`
	At                                             time.Time `gorm:"primaryKey"`
	Took                                           float64
	Setpoint, Began, Rise, Overshoot, Duty, Ripple float64
}

// TableName tells GORM the table of episodeRow.
func (episodeRow) TableName() string { return "heat_episodes" }

// Episodes returns a heater's episodes since a time, the oldest first.
func (r *Records) Episodes(ctx context.Context, h heat.Heater, since time.Time) ([]heat.Episode, error) {
	var rows []episodeRow
	if err := r.db.WithContext(ctx).Where("heater = ? AND at >= ?", h, since).Order("at").Limit(10_000).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]heat.Episode, len(rows))
	for i, e := range rows {
		out[i] = heat.Episode{
			Heater: h, Kind: heat.EpisodeKind(e.Kind), At: e.At.UTC(), Took: time.Duration(e.Took * float64(time.Second)),
			Setpoint: e.Setpoint, From: e.Began, Rise: e.Rise, Overshoot: e.Overshoot, Duty: e.Duty, Ripple: e.Ripple,
		}
	}
	return out, nil
}

// modelRow is a row of heat_models.
type modelRow struct {
	Heater  string `gorm:"primaryKey"`
	At      time.Time
	Learned string
}

// TableName tells GORM the table of modelRow.
func (modelRow) TableName() string { return "heat_models" }

// Learned returns what has been learned of the heaters.
func (r *Records) Learned(ctx context.Context) (map[heat.Heater]*heat.Learned, error) {
	var rows []modelRow
	if err := r.db.WithContext(ctx).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[heat.Heater]*heat.Learned{}
	for _, row := range rows {
		l := &heat.Learned{}
		if json.Unmarshal([]byte(row.Learned), l) == nil { // otherwise it is learned anew
			out[heat.Heater(row.Heater)] = l
		}
	}
	return out, nil
}

// warmUpRow is a row of warm_ups.
type warmUpRow struct {
	Name      string `gorm:"primaryKey"`
	Spool     string
	Setpoints string
	Sequence  string
	Soak      bool
	SoakFor   float64
}

// TableName tells GORM the table of warmUpRow.
func (warmUpRow) TableName() string { return "warm_ups" }

// WarmUps returns the warm-ups in the order in which they were made.
func (r *Records) WarmUps(ctx context.Context) ([]heat.WarmUp, error) {
	var rows []warmUpRow
	if err := r.db.WithContext(ctx).Order("place").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]heat.WarmUp, 0, len(rows))
	for _, row := range rows {
		w := heat.WarmUp{Name: row.Name, Spool: row.Spool, Order: heat.Order(row.Sequence), Soak: row.Soak, SoakFor: time.Duration(row.SoakFor * float64(time.Second))}
		if err := json.Unmarshal([]byte(row.Setpoints), &w.Setpoints); err != nil {
			return nil, fmt.Errorf("warm-up %q: %w", row.Name, err)
		}
		out = append(out, w)
	}
	return out, nil
}

// PutWarmUp keeps a warm-up under its name.
func (r *Records) PutWarmUp(ctx context.Context, w heat.WarmUp) error {
	setpoints, err := json.Marshal(w.Setpoints)
	if err != nil {
		return err
	}
	row := warmUpRow{Name: w.Name, Spool: w.Spool, Setpoints: string(setpoints), Sequence: string(w.Order), Soak: w.Soak, SoakFor: w.SoakFor.Seconds()}
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// DeleteWarmUp forgets a warm-up, or returns heat.ErrNoWarmUp.
func (r *Records) DeleteWarmUp(ctx context.Context, name string) error {
	res := r.db.WithContext(ctx).Where("name = ?", name).Delete(&warmUpRow{})
	if res.Error == nil && res.RowsAffected == 0 {
		return fmt.Errorf("%w: %q", heat.ErrNoWarmUp, name)
	}
	return res.Error
}
