package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of runs of files.
var (
	PlanPickUp = get[PickUpFrom, api.Plan]("plan-pick-up", "/v1/runs/{id}/pick-up", access.Read,
		"How an interrupted run would be picked up on a printer that has forgotten everything", 404, 409, 422)
	PickUpRun = post[IDWith[api.PickUp], api.Run]("pick-up-run", "/v1/runs/{id}/pick-up", access.Start,
		"Pick an interrupted run up: heat, home X and Y, prime, come back and go on", 404, 409, 422, 503)
	GetRunRecording = get[ID, Bytes]("get-run-recording", "/v1/runs/{id}/recording", access.Read,
		"What was recorded until a run broke, was interrupted or was stopped, as a ZIP archive", 404)
	StartRun = post[With[api.StartRun], api.Run]("start-run", "/v1/runs", access.Start,
		"Start a file", 201, 403, 404, 409, 422, 503)
	GetAround = get[Nothing, api.Around]("get-around", "/v1/printer/around", access.Read,
		"The routines that are performed around every run")
	SetAround = put[With[api.Around], api.Around]("set-around", "/v1/printer/around", access.Keep,
		"Say which routines are performed around every run", 422)
	ListRuns = get[Past, api.Runs]("list-runs", "/v1/runs", access.Read,
		"List runs, the newest first")
	GetRun = get[ID, api.Run]("get-run", "/v1/runs/{id}", access.Read,
		"One run", 404)
	TrimRun = patch[IDWith[api.ChangeTrim], api.Run]("trim-run", "/v1/runs/{id}/trim", access.Operate,
		"Let a run's lines differ from its file's from the next one on; what is left out stays", 404, 409, 422)
	SetUntil = put[IDWith[api.SetUntil], api.Run]("set-until", "/v1/runs/{id}/until", access.Operate,
		"Let a run be held, or end, at a layer or a height", 404, 409, 422)
	DropUntil = remove[ID, api.Run]("drop-until", "/v1/runs/{id}/until", access.Operate,
		"Let it go on to its file's end", 404, 409)
	HoldRun = post[ID, api.Run]("hold-run", "/v1/runs/{id}/hold", access.Operate,
		"Keep the file's lines back; the moves that the printer has already are made", 404, 409)
	ResumeRun = post[ID, api.Run]("resume-run", "/v1/runs/{id}/resume", access.Operate,
		"Let a held run go on", 404, 409)
	StopRun = post[ID, api.Run]("stop-run", "/v1/runs/{id}/stop", access.Operate,
		"End a run early, with heaters and fan off", 404, 409)
)

// Controls are the operations that a run is controlled by, by their verbs.
var Controls = map[string]Op[ID, api.Run]{"hold": HoldRun, "resume": ResumeRun, "stop": StopRun}
