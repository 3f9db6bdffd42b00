package service

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"diathermon/internal/core/machine"
	"diathermon/internal/durable"
	"diathermon/internal/host"
)

// Of what a printer is, the command line decides before diathermon.toml, that before what
// persons have said in Setup, and that before what is ordinary. What is said holds from
// the next start on, or as soon as it is taken up.

// described is what persons have said, as it is kept.
type described struct {
	Said  machine.Description
	Guide machine.Guide
}

// describing is the one description of the printer.
type describing struct {
	kept  *durable.Value[described]
	base  Config // as command line and diathermon.toml have it
	runs  Config // as the service runs
	host  *host.Host
	again chan<- struct{}

	turns sync.Mutex
}

// openDescription reads what persons have said into the configuration.
func (s *starting) openDescription() error {
	d := &describing{base: s.config, again: s.again}
	d.kept = keep[described](s, "printer.json", "what was said of the printer in Setup", "say it again there")
	said := d.kept.Get()
	if said.Guide.State == "" {
		if said.Guide.State = machine.GuideOpen; s.config.Described || s.config.Named["printer.name"] {
			said.Guide.State = machine.GuideDone
		}
		d.kept.Set(said)
	}
	c, _ := layered(d.base, said.Said)
	if err := c.Check(); err != nil {
		return fmt.Errorf("what was said of the printer in Setup does not go with the rest of the configuration: %w; set it in diathermon.toml, which decides", err)
	}
	s.config, d.runs, s.described = c, c, d
	return nil
}

// layered is the configuration with what is said, and everything that can be said as it
// is then: what the configuration file names stays.
func layered(c Config, said machine.Description) (Config, machine.Described) {
	out := machine.Described{By: map[string]machine.Decider{}}
	for _, a := range machine.Aspects {
		var is any = &c.Device
		if a.Is != nil {
			is = a.Is(&c.Printer.Printer)
		}
		by := machine.ByNobody
		switch {
		case c.Named[a.Key]:
			by = machine.ByFile
		case a.Lay(&said, is):
			by = machine.BySetup
		}
		a.Tell(is, &out.Now)
		out.By[a.Name] = by
	}
	return c, out
}

// Described is how the printer is described, and by whom.
func (d *describing) Described(ctx context.Context) (machine.Described, error) {
	kept := d.kept.Get()
	c, out := layered(d.base, kept.Said)
	out.Guide, out.Waits = kept.Guide, !sameMachine(c, d.runs)
	var err error
	out.Told, err = d.host.Told(ctx)
	return out, err
}

// sameMachine reports whether two configurations describe the same printer.
func sameMachine(a, b Config) bool {
	return a.Device == b.Device && fmt.Sprintf("%#v", a.Printer) == fmt.Sprintf("%#v", b.Printer)
}

// Say keeps what is said of the printer besides what was said before, if it goes with the
// rest of the configuration.
func (d *describing) Say(said machine.Description, guide machine.Guide) error {
	d.turns.Lock()
	defer d.turns.Unlock()
	kept := d.kept.Get()
	if said.Colour != nil {
		small := strings.ToLower(strings.TrimSpace(*said.Colour))
		said.Colour = &small
	}
	kept.Said = said.Over(kept.Said)
	if guide.State != "" {
		kept.Guide.State = guide.State
	}
	if guide.Step > 0 {
		kept.Guide.Step = guide.Step
	}
	c, now := layered(d.base, kept.Said)
	_, asked := layered(Config{}, said)
	for _, a := range machine.Aspects {
		if asked.By[a.Name] == machine.BySetup && now.By[a.Name] == machine.ByFile {
			return fmt.Errorf("%w: %s is what diathermon.toml or the command line has decided; change it there", machine.ErrDecided, a.Key)
		}
	}
	if err := c.Check(); err != nil {
		return fmt.Errorf("%w: %w", machine.ErrDescription, err)
	}
	return d.kept.Put(kept)
}

// TakeUp lets the service begin anew as what is said has it, if nothing is under way.
func (d *describing) TakeUp(ctx context.Context) error {
	if c, _ := layered(d.base, d.kept.Get().Said); sameMachine(c, d.runs) {
		return nil
	}
	if err := d.host.Free(ctx); err != nil {
		return err
	}
	select {
	case d.again <- struct{}{}:
	default: // somebody has asked already
	}
	return nil
}
