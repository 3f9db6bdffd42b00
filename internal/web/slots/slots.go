// Package slots is the area of what is loaded where.
package slots

import (
	"context"
	"net/http"

	"diathermon/internal/api"
	"diathermon/internal/core/stock"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Stock keeps it.
type Stock interface {
	Slots() []stock.Slot
	Load(s stock.Slot, by string) (stock.Slot, error)
}

// Area is the area.
type Area struct{ Stock Stock }

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(desk.Kind{Err: stock.ErrSlot, Status: http.StatusUnprocessableEntity, Title: stock.ErrSlot.Error()})
	desk.Show(d, d.Op("list-slots", http.MethodGet, "/v1/slots", desk.Read, "What is loaded where"),
		func(context.Context, *struct{}) (api.Slots, error) {
			out := api.Slots{Slots: []api.Slot{}}
			for _, s := range a.Stock.Slots() {
				out.Slots = append(out.Slots, of(s))
			}
			return out, nil
		})
	desk.Show(d, d.Op("load-slot", http.MethodPut, "/v1/slots/{number}", desk.Operate, "Say what is in a slot; runs are held against it before they start", 422),
		func(ctx context.Context, in *struct {
			Number int `path:"number" minimum:"0" maximum:"15"`
			Body   api.LoadSlot
		}) (api.Slot, error) {
			b := in.Body
			s, err := a.Stock.Load(stock.Slot{Number: in.Number, Loaded: b.Material != "", Material: b.Material, Colour: b.Colour, Diameter: b.Diameter, Coldest: b.Coldest, Hottest: b.Hottest}, guard.Caller(ctx))
			return of(s), err
		})
}

// of is a slot as the contract says it.
func of(s stock.Slot) api.Slot {
	return api.Slot{Number: s.Number, Loaded: s.Loaded, Material: s.Material, Colour: s.Colour, Diameter: s.Diameter, Coldest: s.Coldest, Hottest: s.Hottest, By: s.By, Since: api.Moment(s.Since)}
}
