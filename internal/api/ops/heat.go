package ops

import (
	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The operations of heaters.
var (
	ExportHeat = get[Export, Bytes]("export-heat", "/v1/heat/export", access.Read,
		"Any window of the temperature log as a file: every reading as CSV or JSON, or a picture", 404, 422)
	ListGuards = get[Nothing, api.Guards]("list-guards", "/v1/heat/guards", access.Read,
		"What each guard may do by itself, since when, and how near ordinary life has come to an alarm")
	BoundGuard = put[ToGuard, api.Guard]("bound-guard", "/v1/heat/guards/{heater}/{guard}", access.Keep,
		"Say what a guard may do at the most, whatever it has earned", 404, 422, 503)
	LookBack = post[With[api.Look], api.Hindsight]("look-back", "/v1/heat/hindsight", access.Operate,
		"Let the guards look at the log: what would they have said? It takes a while; ask for it again", 202, 409, 422)
	GetHindsight = get[Nothing, api.Hindsight]("get-hindsight", "/v1/heat/hindsight", access.Read,
		"What the guards would have said, as far as they have looked").
		orNone("the guards have not looked back")
	GetHeatModels = get[Nothing, api.HeatModels]("get-heat-models", "/v1/heat/models", access.Read,
		"How the heaters behave, learned from the log, and how the ones that warm up will go on")
	GetHeatHealth = get[Heater, api.HeatHealth]("get-heat-health", "/v1/heat/{heater}/health", access.Read,
		"How a heater has been doing: what changed, and every warm-up and hour of holding of the last half year", 404)
	ListAlarms = get[Alarms, api.Alarms]("list-alarms", "/v1/heat/alarms", access.Read,
		"Alarms, the newest first")
	AcknowledgeAlarm = post[Acknowledging, api.Alarm](
		"acknowledge-alarm", "/v1/heat/alarms/{id}/acknowledge", access.Operate,
		"Say that a person has seen an alarm, and what it was", 404, 422)
	GetHeat = get[Window, api.HeatLog]("get-heat", "/v1/heat", access.Read,
		"The temperature log: every reading in a window, the oldest first", 404, 422)
	GetHeatChart = get[Chart, api.HeatChart]("get-heat-chart", "/v1/heat/chart", access.Read,
		"Any window of the temperature log, drawn together: extremes stay, gaps are gaps", 404, 422)
	SetHeat = put[HeaterWith[api.SetHeat], api.HeatSet]("set-heat", "/v1/heat/{heater}", access.Operate,
		"Give a heater a setpoint within the printer's limits; 0 turns it off", 404, 422, 503)
	TuneHeater = post[HeaterWith[api.Tune], api.Tuning]("tune-heater", "/v1/heat/{heater}/tuning", access.Operate,
		"Let the firmware tune a heater's PID; it takes minutes, in which the printer does nothing else",
		202, 404, 409, 422, 503)
	GetTuning = get[Nothing, api.Tuning]("get-tuning", "/v1/heat/tuning", access.Read,
		"How the last tuning stands, with how well its heater was held before and since").
		orNone("nothing has been tuned since the service started")
	ApplyTuning = post[With[api.ApplyTuning], api.Tuning]("apply-tuning", "/v1/heat/tuning/apply", access.Keep,
		"Give the firmware the constants that were found", 404, 409, 503)
	ListWarmUps = get[Nothing, api.WarmUps]("list-warm-ups", "/v1/warm-ups", access.Read,
		"The warm-ups that were made")
	PutWarmUp = put[NameWith[api.WarmUp], api.WarmUp]("put-warm-up", "/v1/warm-ups/{name}", access.Operate,
		"Make a warm-up, or change one", 422)
	DeleteWarmUp = remove[Name, Nothing]("delete-warm-up", "/v1/warm-ups/{name}", access.Operate,
		"Forget a warm-up", 404)
	BeginWarmUp = post[With[api.BeginWarmUp], api.WarmingUp]("begin-warm-up", "/v1/heat/warm-up", access.Operate,
		"Begin a warm-up, in place of one that goes on; not while a run goes on", 404, 409, 422, 503)
	EndWarmUp = remove[Nothing, Nothing]("end-warm-up", "/v1/heat/warm-up", access.Operate,
		"Give up the warm-up that goes on; heaters stay as they are")
	Cool = post[Nothing, Nothing]("cool", "/v1/heat/cool", access.Operate,
		"Turn every heater off; not while a run needs its heat", 409, 503)
)
