package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of everything live.
var (
	GetBench = get[Nothing, api.Bench]("get-bench", "/v1/bench", access.Read,
		"Link, firmware, heaters, position and the run, now")
	Reconnect = post[Nothing, Nothing]("reconnect", "/v1/bench/reconnect", access.Operate,
		"Close the port and open it anew, which restarts most boards; not while a run goes on", 202, 409)
	ListPorts = get[Nothing, api.Ports]("list-ports", "/v1/bench/ports", access.Read,
		"The serial ports of the host's computer")
	Bed = get[Nothing, api.Bed]("bed", "/v1/bench/bed", access.Read,
		"What is known of what lies on the bed")
	SayBed = put[With[api.SayBed], api.Bed]("say-bed", "/v1/bench/bed", access.Operate,
		"Say whether the bed is clear: nothing starts on one that is not", 409, 422)
	Halt = post[Nothing, Nothing]("halt", "/v1/halt", access.Read,
		"Emergency stop, ahead of everything; the printer must be reset afterwards", 503)
)
