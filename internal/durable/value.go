package durable

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
)

// A Value is something small that is kept as JSON in a file of its own. It may be used
// from anywhere.
type Value[T any] struct {
	path   string
	failed func(error)

	writing sync.Mutex // one writes at a time, the newest last
	mu      sync.Mutex
	now     T
	count   int // of what was set
	written int // of that, on the disk
}

// OpenValue returns what is kept at path, which is T's zero value if there is no such
// file. What cannot be read is an error, and the value is T's zero value all the same:
// its file is replaced by what is set next. Failed is told when Set could not be kept;
// nil: nobody is.
func OpenValue[T any](path string, failed func(error)) (*Value[T], error) {
	v := &Value[T]{path: path, failed: failed}
	b, err := os.ReadFile(path)
	if err == nil {
		if err = json.Unmarshal(b, &v.now); err != nil {
			var none T
			v.now = none
		}
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return v, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return v, nil
}

// Get returns the value.
func (v *Value[T]) Get() T {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.now
}

// Set changes the value, and returns before it is on the disk. What is in it may not be
// changed afterwards.
func (v *Value[T]) Set(now T) {
	v.set(now)
	go func() {
		if err := v.Flush(); err != nil && v.failed != nil {
			v.failed(err)
		}
	}()
}

// Put changes the value and returns when it is on the disk; otherwise it is as it was.
// Those who change one take turns.
func (v *Value[T]) Put(now T) error {
	before := v.Get()
	v.set(now)
	err := v.Flush()
	if err != nil {
		v.set(before)
	}
	return err
}

func (v *Value[T]) set(now T) {
	v.mu.Lock()
	v.now = now
	v.count++
	v.mu.Unlock()
}

// Flush returns when everything that was set is on the disk.
func (v *Value[T]) Flush() error {
	v.writing.Lock()
	defer v.writing.Unlock()
	v.mu.Lock()
	b, err := json.MarshalIndent(v.now, "", "  ")
	count, written := v.count, v.written
	v.mu.Unlock()
	if count == written || err != nil {
		return err
	}
	if err := Replace(v.path, Bytes(append(b, '\n'))); err != nil {
		return err
	}
	v.written = count
	return nil
}
