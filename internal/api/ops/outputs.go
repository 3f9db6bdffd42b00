package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of fans, lights and pins.
var (
	ListOutputs = get[Nothing, api.Outputs]("list-outputs", "/v1/outputs", access.Read,
		"Fans, lights and pins, with what each was last set to, and by whom")
	SetOutput = put[NameWith[api.OutputLevel], api.Outputs]("set-output", "/v1/outputs/{name}", access.Operate,
		"Set a fan, a light or a pin", 404, 422, 503)
)
