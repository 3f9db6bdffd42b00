package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of moving by hand.
var (
	Press = post[With[api.Press], api.Motion]("press", "/v1/motion/presses", access.Operate,
		"Move the head, or filament; answers at once with where it is going, and presses that come meanwhile add up",
		409, 422, 503)
	DropPresses = remove[Nothing, api.Motion]("drop-presses", "/v1/motion/presses", access.Operate,
		"Forget what was pressed and has not begun: the head stops when it has ended what it is at", 503)
	Home = post[With[api.Home], api.Motion]("home", "/v1/motion/home", access.Operate,
		"Home some axes, or all", 409, 422, 503)
	Park = post[Nothing, api.Motion]("park", "/v1/motion/park", access.Operate,
		"Lift the nozzle and take it to a corner", 409, 503)
	TurnMotorsOff = post[Nothing, api.Motion]("turn-motors-off", "/v1/motion/motors-off", access.Operate,
		"Let the axes go; until they are homed again it is not known where the head is", 409, 503)
	GetEndstops = get[Nothing, api.Endstops]("get-endstops", "/v1/motion/endstops", access.Operate,
		"Ask the printer what its endstops say", 409, 503)
)
