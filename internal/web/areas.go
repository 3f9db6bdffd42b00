package web

import (
	"fmt"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// An Area is one of the nouns under /v1.
type Area struct {
	Tag, About string // by which the document knows it
	Area       desk.Area
	// Event is what a part of the host shows as data of one of the contract's events; nil
	// if the area has none, and it returns nil for what belongs to another.
	Event func(what any) any
}

// Areas are all of them.
type Areas []Area

// Event is what a part of the host shows as data of one of the contract's events; nil: it
// is for nobody. That something has changed which is no part of the machine is one already.
func (all Areas) Event(what any) any {
	if changed, is := what.(api.Changed); is {
		return changed
	}
	for _, a := range all {
		if a.Event == nil {
			continue
		}
		if e := a.Event(what); e != nil {
			return e
		}
	}
	return nil
}

// Document is the OpenAPI document of the areas as indented JSON.
func (all Areas) Document() ([]byte, error) {
	return all.mount(desk.New(chi.NewRouter(), (*guard.Access)(nil), nil)).Document()
}

// mount mounts every area and describes it.
func (all Areas) mount(d *desk.Desk) *desk.Desk {
	for _, a := range all {
		d.Mount(a.Tag, a.About, a.Area)
	}
	if missing := d.Missing(); len(missing) > 0 {
		panic(fmt.Sprintf("operations are declared and not mounted: %s", missing))
	}
	return d
}
