package service

import (
	"errors"
	"io/fs"
	"os"
	"sync"

	"diathermon/internal/durable"
)

// performed keeps what is being performed in a small file, which is there only while
// something is.
type performed struct {
	path string

	mu sync.Mutex
	id string // what was remembered last; empty: by another process
}

// Remember keeps it.
func (p *performed) Remember(id string, data []byte) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.id = id
	return durable.Replace(p.path, durable.Bytes(data))
}

// Forget forgets what has that ID.
func (p *performed) Forget(id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.id != "" && p.id != id {
		return nil
	}
	if err := os.Remove(p.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Recall returns what was kept.
func (p *performed) Recall() ([]byte, error) {
	data, err := os.ReadFile(p.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return data, err
}
