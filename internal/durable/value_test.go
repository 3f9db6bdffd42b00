package durable_test

import (
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"diathermon/internal/durable"
)

func TestAValueIsWhatWasSetLast(t *testing.T) {
	path := filepath.Join(t.TempDir(), "value.json")
	v, err := durable.OpenValue[[]int](path, func(err error) { t.Error(err) })
	if err != nil || v.Get() != nil {
		t.Fatalf("of no file it is %v, %v", v.Get(), err)
	}
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() { v.Set([]int{i}) })
	}
	all.Wait()
	v.Set([]int{1, 2})
	if err := v.Flush(); err != nil {
		t.Fatal(err)
	}
	if again, err := durable.OpenValue[[]int](path, nil); err != nil || !slices.Equal(again.Get(), []int{1, 2}) {
		t.Errorf("opened again it is %v, %v", again.Get(), err)
	}
	if err := v.Put([]int{3}); err != nil {
		t.Fatal(err)
	}
	if again, _ := durable.OpenValue[[]int](path, nil); !slices.Equal(again.Get(), []int{3}) {
		t.Errorf("put it is %v", again.Get())
	}
}

func TestAValueThatCannotBeReadOrKept(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "folder")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(folder, "value.json")
	if err := os.WriteFile(path, []byte(`[1,2`), 0o600); err != nil {
		t.Fatal(err)
	}
	v, err := durable.OpenValue[[]int](path, nil)
	if err == nil || v.Get() != nil {
		t.Errorf("half a file is %v, %v", v.Get(), err)
	}
	if err := v.Put([]int{7}); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(folder); err != nil {
		t.Fatal(err)
	}
	if err := v.Put([]int{8}); err == nil || !slices.Equal(v.Get(), []int{7}) {
		t.Errorf("what no disk takes is %v, %v", v.Get(), err)
	}
}
