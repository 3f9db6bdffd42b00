package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

// file is a row of files.
type file struct {
	Name    string `gorm:"primaryKey"`
	Size    int64
	Digest  string
	Stored  time.Time
	Sender  string
	Tags    string
	Summary string
	Marks   string
	Course  string
}

func (f file) file() (toolpath.File, error) {
	out := toolpath.File{Name: f.Name, Size: f.Size, Digest: f.Digest, Stored: f.Stored.UTC(), Sender: f.Sender}
	if err := json.Unmarshal([]byte(f.Tags), &out.Tags); err != nil {
		return out, err
	}
	if err := json.Unmarshal([]byte(f.Summary), &out.Summary); err != nil {
		return out, err
	}
	return out, errors.Join(unlessEmpty(f.Marks, &out.Marks), unlessEmpty(f.Course, &out.Course))
}

// unlessEmpty reads a column that listings leave out, and older rows.
func unlessEmpty(text string, to any) error {
	if text == "" {
		return nil
	}
	return json.Unmarshal([]byte(text), to)
}

// PutFile keeps what is known of a file under its name.
func (r *Records) PutFile(ctx context.Context, f toolpath.File) error {
	summary, err := json.Marshal(f.Summary)
	if err != nil {
		return err
	}
	if f.Marks == nil {
		f.Marks = []run.Mark{}
	}
	marks, err := json.Marshal(f.Marks)
	if err != nil {
		return err
	}
	course, err := json.Marshal(f.Course)
	if err != nil {
		return err
	}
	if f.Tags == nil {
		f.Tags = []string{}
	}
	tags, err := json.Marshal(f.Tags)
	if err != nil {
		return err
	}
	row := file{Name: f.Name, Size: f.Size, Digest: f.Digest, Stored: f.Stored, Sender: f.Sender, Tags: string(tags), Summary: string(summary), Marks: string(marks), Course: string(course)}
	return r.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// File returns what is known of a file, or an error that is
// fs.ErrNotExist.
func (r *Records) File(ctx context.Context, name string) (toolpath.File, error) {
	var row file
	err := r.db.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return toolpath.File{}, fmt.Errorf("file %q: %w", name, fs.ErrNotExist)
	}
	if err != nil {
		return toolpath.File{}, err
	}
	return row.file()
}

// Files returns what is known of all files but their marks and courses, the newest first.
func (r *Records) Files(ctx context.Context) ([]toolpath.File, error) {
	var rows []file
	if err := r.db.WithContext(ctx).Omit("Marks", "Course").Order("stored DESC, name").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]toolpath.File, 0, len(rows))
	for _, row := range rows {
		f, err := row.file()
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// DeleteFile forgets a file.
func (r *Records) DeleteFile(ctx context.Context, name string) error {
	return r.db.WithContext(ctx).Where("name = ?", name).Delete(&file{}).Error
}

// Histories returns what has become of the files that were run, by their digests.
func (r *Records) Histories(ctx context.Context) (map[string]run.History, error) {
	var rows []struct {
		Digest   string
		Runs     int
		Finished int
		Last     time.Time
		State    string
	}
	err := r.db.WithContext(ctx).Raw(`SELECT digest, count(*) AS runs, count(*) FILTER (WHERE state = ?) AS finished, max(created) AS last,
		(array_agg(state ORDER BY created DESC))[1] AS state FROM runs GROUP BY digest`, string(run.Finished)).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := map[string]run.History{}
	for _, row := range rows {
		out[row.Digest] = run.History{Digest: row.Digest, Runs: row.Runs, Finished: row.Finished, Last: row.Last.UTC(), State: run.State(row.State)}
	}
	return out, nil
}
