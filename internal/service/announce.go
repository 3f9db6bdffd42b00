package service

import (
	"context"
	"net"
	"sync"
	"time"

	"diathermon/internal/doors/announce"
)

// announce lets the host be found on the network, if others reach it there.
func (s *starting) announce(context.Context) error {
	at := s.listener.Addr().(*net.TCPAddr)
	if !s.config.Announce || at.IP.IsLoopback() {
		return nil
	}
	state := "starting"
	var mu sync.Mutex
	s.work(func(ctx context.Context) {
		every := time.NewTicker(time.Second)
		defer every.Stop()
		for {
			if now, err := s.Host.Bench(ctx); err == nil {
				mu.Lock()
				switch {
				case now.Run != nil && now.Run.State.Going():
					state = string(now.Run.State)
				case !now.Link.Live():
					state = "away"
				default:
					state = "idle"
				}
				mu.Unlock()
			}
			select {
			case <-every.C:
			case <-ctx.Done():
				return
			}
		}
	})
	h := &announce.Host{Name: s.config.Printer.Name, Port: at.Port, IP: at.IP, Sealed: s.seal != nil, Log: s.log, Text: func() []string {
		mu.Lock()
		defer mu.Unlock()
		return []string{"txtvers=1", "path=/", "state=" + state}
	}}
	s.work(h.Work)
	return nil
}
