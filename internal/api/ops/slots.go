package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of what is loaded where.
var (
	ListSlots = get[Nothing, api.Slots]("list-slots", "/v1/slots", access.Read,
		"What is loaded where")
	LoadSlot = put[ToSlot, api.Slot]("load-slot", "/v1/slots/{number}", access.Operate,
		"Say what is in a slot; runs are held against it before they start", 422)
)
