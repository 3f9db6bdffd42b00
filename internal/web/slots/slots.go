// Package slots is the area of what is loaded where.
package slots

import (
	"context"
	"net/http"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
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
	d.Settable(stock.Settable(), api.LoadSlot{})
	desk.Show(d, ops.ListSlots, func(context.Context, *ops.Nothing) (api.Slots, error) {
		out := api.Slots{Slots: []api.Slot{}}
		for _, s := range a.Stock.Slots() {
			out.Slots = append(out.Slots, of(s))
		}
		return out, nil
	})
	desk.Show(d, ops.LoadSlot, func(ctx context.Context, in *ops.ToSlot) (api.Slot, error) {
		b := in.Body
		s, err := a.Stock.Load(stock.Slot{Number: in.Number, Loaded: b.Material != "", Material: b.Material, Colour: b.Colour, Diameter: b.Diameter, Coldest: b.Coldest, Hottest: b.Hottest}, guard.Caller(ctx))
		return of(s), err
	})
}

// of is a slot as the contract says it.
func of(s stock.Slot) api.Slot {
	return api.Slot{Number: s.Number, Loaded: s.Loaded, Material: s.Material, Colour: s.Colour, Diameter: s.Diameter, Coldest: s.Coldest, Hottest: s.Hottest, By: s.By, Since: api.Moment(s.Since)}
}
