package shelf

import (
	"context"

	"golang.org/x/sys/unix"
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
	var st unix.Statfs_t
	if err := unix.Statfs(s.dir, &st); err != nil {
		return d, err
	}
	d.Free, d.Total = int64(st.Bavail)*int64(st.Bsize), int64(st.Blocks)*int64(st.Bsize)
	return d, nil
}
