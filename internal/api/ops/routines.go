package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of routines.
var (
	ListRoutines = get[Nothing, api.Routines]("list-routines", "/v1/routines", access.Read,
		"Routines, with what each may do on this printer")
	GetRoutine = get[Name, api.Routine]("get-routine", "/v1/routines/{name}", access.Read,
		"A routine, with what it may do on this printer", 404)
	CheckRoutine = post[With[api.RoutineText], api.Routine]("check-routine", "/v1/routines/check", access.Read,
		"What a text would do as a routine, or what is wrong with it; nothing is stored", 422)
	StoreRoutine = put[NameWith[api.RoutineText], api.Routine]("store-routine", "/v1/routines/{name}", access.Keep,
		"Store a routine; one of its name that comes with the host stays behind it", 409, 422)
	RemoveRoutine = remove[Name, Nothing]("remove-routine", "/v1/routines/{name}", access.Keep,
		"Remove what the keeper has written; what comes with the host is there again", 404, 409)
	PerformRoutine = post[NameWith[api.Perform], api.Performance](
		"perform-routine", "/v1/routines/{name}/performances", access.Operate,
		"Perform a routine", 404, 409, 422, 503)
	AnswerQuestion = post[IDWith[api.QuestionAnswer], api.Performance](
		"answer-question", "/v1/performances/{id}/answers", access.Operate,
		"Answer what a routine asks", 409)
	StopPerformance = post[ID, api.Performance]("stop-performance", "/v1/performances/{id}/stop", access.Operate,
		"Stop a routine, into the state that it names as safe", 409)
	ListPerformances = get[Past, api.Performances]("list-performances", "/v1/performances", access.Read,
		"Routines that were performed, the newest first")
	GetPerformance = get[ID, api.Performance]("get-performance", "/v1/performances/{id}", access.Read,
		"A routine that was performed: its lines, and what was asked and answered", 404)
)
