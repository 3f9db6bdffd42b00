package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of serial traffic.
var (
	GetRecording = get[Nothing, Bytes]("get-recording", "/v1/wire/recording", access.Read,
		"What the flight recorder holds: the last ten minutes of raw traffic, readings, positions and "+
			"decisions, as a ZIP archive")
	Say = post[With[api.SayLine], api.Said]("say", "/v1/wire", access.Operate,
		"Say a line and get the printer's reply; setpoints are bounded and a running print is not disturbed", 409, 422, 503)
	GetWire = get[Traffic, api.Wire]("get-wire", "/v1/wire", access.Read,
		"Recent traffic, the oldest line first")
	ListCommands = get[Nothing, api.Commands]("list-commands", "/v1/wire/commands", access.Read,
		"What is known of the commands that the open firmwares share: what each does, its parameters and "+
			"their units, an example")
	MeasureWire = post[Nothing, Nothing]("measure-wire", "/v1/wire/measure", access.Operate,
		"Measure anew what the printer can hold, while it is cold and has nothing to do; the bench tells "+
			"the outcome in some ten seconds",
		202, 409)
)
