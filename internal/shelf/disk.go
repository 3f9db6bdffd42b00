package shelf

import (
	"context"

	"diathermon/internal/durable"
)

// A Disk is what the shelf takes of its disk, in bytes.
type Disk struct {
	Used  int64 // by the files, those with the same bytes once
	Free  int64
	Total int64
}

// Disk tells how full the shelf's disk is.
func (s *Shelf) Disk(ctx context.Context) (Disk, error) {
	files, err := s.index.Files(ctx)
	if err != nil {
		return Disk{}, err
	}
	var d Disk
	seen := map[string]bool{}
	for _, f := range files {
		if !seen[f.Digest] {
			seen[f.Digest] = true
			d.Used += f.Size
		}
	}
	d.Free, d.Total, err = durable.Room(s.dir)
	return d, err
}
