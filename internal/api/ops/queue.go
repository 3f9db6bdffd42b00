package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of what waits to be printed.
var (
	ListQueue = get[Nothing, api.Queue]("list-queue", "/v1/queue", access.Read,
		"What waits to be printed, the next first, with what stands in its way")
	AddQueueEntry = post[With[api.AddEntry], api.QueueEntry]("add-queue-entry", "/v1/queue", access.Start,
		"Let a file wait in turn", 201, 404, 409, 422)
	ChangeQueueEntry = patch[IDWith[api.ChangeEntry], api.QueueEntry]("change-queue-entry", "/v1/queue/{id}", access.Start,
		"Move an entry, or change how it is to be run", 403, 404, 422)
	RemoveQueueEntry = remove[ID, Nothing]("remove-queue-entry", "/v1/queue/{id}", access.Start,
		"Take an entry out", 404)
	StartNext = post[With[api.StartNext], api.Run]("start-next", "/v1/queue/next", access.Start,
		"Let the first entry begin; with clear also say that the bed is clear", 201, 403, 404, 409, 422)
)
