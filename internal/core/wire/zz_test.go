package wire_test

import (
	"sort"
	"testing"
	"time"
)

func TestZZ(t *testing.T) {
	if *oneSeed >= 0 {
		s := newSim(*oneSeed)
		t.Logf("%s clean %+v early %v", s.board.Words(), s.clean, s.board)
		return
	}
	type r struct {
		seed int64
		d    time.Duration
		jit  time.Duration
	}
	var rs []r
	for seed := int64(0); seed < 6000; seed++ {
		s := newSim(seed)
		if s.clean {
			continue
		}
		j := s.jitter
		if s.takes == nil {
			continue
		}
		_ = s.run()
		rs = append(rs, r{seed, s.longest, j})
	}
	sort.Slice(rs, func(i, j int) bool { return rs[i].d > rs[j].d })
	for _, x := range rs[:25] {
		t.Log(x)
	}
	t.Log(rs[len(rs)/10], rs[len(rs)/4], rs[len(rs)/2])
}
func TestZY(t *testing.T) {
	s := newSim(*oneSeed)
	for s.now < 95*time.Second {
		s.step()
	}
	t.Logf("%+v", s.conv)
	t.Log(s.conv.Deadline(), s.takes)
}
