// Package api is the wire contract of the service: the types of its requests,
// responses and events. It holds no behaviour beyond what a type needs to speak
// HTTP.
//
// Temperatures are °C, lengths millimetres, durations seconds, duty and progress
// shares from 0 to 1, times RFC 3339 in UTC.
package api

import "time"

// Bench is everything live at one moment.
type Bench struct {
	Printer  Printer     `json:"printer"`
	Link     Link        `json:"link"`
	Firmware *Firmware   `json:"firmware,omitempty" doc:"Absent until the printer has told"`
	Heaters  []Heater    `json:"heaters"`
	Position Position    `json:"position"`
	Motion   Motion      `json:"motion"`
	Outputs  []Output    `json:"outputs"`
	Routine  Performance `json:"routine" doc:"That is being performed, or was last"`
	Alarms   []Alarm     `json:"alarms" doc:"That wait for a person"`
	Bed      Bed         `json:"bed" doc:"What lies on it"`

	WarmUp *WarmingUp `json:"warm_up,omitempty" doc:"The warm-up that goes on"`
	Flow   Flow       `json:"flow"`
	Run    *Run       `json:"run,omitempty" doc:"The run that goes on, or the last one since the service started"`
}

// Printer is what the keeper has said of the machine.
type Printer struct {
	Name             string  `json:"name" example:"Vesper"`
	Colour           string  `json:"colour,omitempty" doc:"By which it is told from its neighbours, #rrggbb" example:"#3f6f9c"`
	Width            float64 `json:"width" doc:"Bed, X, mm" example:"230"`
	Depth            float64 `json:"depth" doc:"Bed, Y, mm" example:"230"`
	Height           float64 `json:"height" doc:"Highest Z, mm" example:"240"`
	Tools            int     `json:"tools" example:"1"`
	NozzleDiameter   float64 `json:"nozzle_diameter" doc:"mm" example:"0.4"`
	FilamentDiameter float64 `json:"filament_diameter" doc:"mm" example:"1.75"`
	Pace             float64 `json:"pace,omitempty" doc:"How many times faster than ours its clock runs: a stand-in's; absent: as fast" example:"8"`
}

// Link is the serial connection.
type Link struct {
	State  string    `json:"state" enum:"absent,opening,greeting,live,silent,dead"`
	Reason string    `json:"reason" doc:"Why, in words, and what to do"`
	Device string    `json:"device" doc:"Path of the port"`
	Baud   int       `json:"baud"`
	Since  time.Time `json:"since"`
}

// Firmware is what the printer says of itself.
type Firmware struct {
	Name         string          `json:"name"`
	Machine      string          `json:"machine"`
	Extruders    int             `json:"extruders"`
	Capabilities map[string]bool `json:"capabilities"`
	Holds        Holds           `json:"holds" doc:"What it can hold of what is said to it"`
	HaltsAtOnce  bool            `json:"halts_at_once" doc:"It reads an emergency stop as it arrives; otherwise in its turn, behind what it has queued"`
}

// Holds is what a printer can hold of what is said to it, before it has read it.
type Holds struct {
	Bytes int    `json:"bytes" doc:"Of its receive buffer; 0 while it is measured"`
	Lines int    `json:"lines" doc:"That it holds besides"`
	How   string `json:"how" enum:"assumed,told,configured,measured,measuring" doc:"How that is known; assumed is what every board holds"`
}

// Port is a serial port of the host's computer.
type Port struct {
	Path    string `json:"path" doc:"Stable: the same whichever way the cable is plugged in. Use this one"`
	Device  string `json:"device" doc:"As the kernel calls it now"`
	Maker   string `json:"maker,omitempty" doc:"As USB tells"`
	Product string `json:"product,omitempty"`
	Serial  string `json:"serial,omitempty"`
	UsedBy  string `json:"used_by,omitempty" doc:"Another program that has it open"`
	Ours    bool   `json:"ours" doc:"The one that this host uses"`
}

// Ports is the list of serial ports.
type Ports struct {
	Ports []Port `json:"ports"`
}

// Heater is one heater at this moment.
type Heater struct {
	Heater   string     `json:"heater" example:"nozzle0"`
	State    string     `json:"state" enum:"off,heating,settling,steady,soaked,cooling,alarm"`
	Actual   *float64   `json:"actual,omitempty" doc:"°C; absent until the printer has reported"`
	Setpoint float64    `json:"setpoint" doc:"°C as the printer reports it; 0 is off"`
	Duty     *float64   `json:"duty,omitempty" doc:"0 to 1, where the firmware reports it"`
	Limit    float64    `json:"limit" doc:"Highest setpoint, °C"`
	At       *time.Time `json:"at,omitempty" doc:"When it was reported"`

	ReadySeconds float64 `json:"ready_seconds,omitempty" doc:"Until it is at its setpoint; absent where it is, or where that is not known yet"`
	ReadySoonest float64 `json:"ready_soonest_seconds,omitempty" doc:"Nine times of ten it is ready between these two"`
	ReadyLatest  float64 `json:"ready_latest_seconds,omitempty"`
	Never        bool    `json:"never,omitempty" doc:"At full duty it does not get to its setpoint"`
	Soak         *Soak   `json:"soak,omitempty" doc:"While a warm-up soaks it"`
}

// Soak is how far a soak has come.
type Soak struct {
	There       bool     `json:"there" doc:"The setpoint has been reached"`
	Done        bool     `json:"done" doc:"And the heat has spread"`
	LeftSeconds *float64 `json:"left_seconds,omitempty" doc:"Until then, as far as can be told"`
}

// Heat is the event that tells all heaters.
type Heat struct {
	Heaters []Heater   `json:"heaters"`
	WarmUp  *WarmingUp `json:"warm_up,omitempty" doc:"The warm-up that goes on"`
	Flow    Flow       `json:"flow"`
}

// WarmUp is a named set of setpoints.
type WarmUp struct {
	Name        string             `json:"name" maxLength:"60" example:"PETG"`
	Spool       string             `json:"spool,omitempty" maxLength:"60" doc:"It is for this spool; empty: for any" example:"Amber, from the blue box"`
	Setpoints   map[string]float64 `json:"setpoints" doc:"°C, by heater"`
	Order       string             `json:"order" enum:"at-once,bed-first,together" default:"together" doc:"together: so that all arrive at the same time"`
	Soak        bool               `json:"soak" default:"false" doc:"Hold the bed until its heat has spread"`
	SoakSeconds float64            `json:"soak_seconds,omitempty" minimum:"0" doc:"For so long; 0: until the plate has settled"`
}

// WarmUps are the warm-ups that were made, the oldest first.
type WarmUps struct {
	WarmUps []WarmUp `json:"warm_ups"`
}

// BeginWarmUp says what to warm up for. Exactly one of its fields is given.
type BeginWarmUp struct {
	Name   string  `json:"name,omitempty" doc:"A warm-up that was made"`
	File   string  `json:"file,omitempty" doc:"The setpoints of a file on the shelf"`
	Spool  string  `json:"spool,omitempty" doc:"The warm-up that was made for this spool"`
	WarmUp *WarmUp `json:"warm_up,omitempty" doc:"This one"`
}

// WarmingUp is a warm-up that goes on.
type WarmingUp struct {
	WarmUp      WarmUp    `json:"warm_up"`
	Begun       time.Time `json:"begun"`
	LeftSeconds *float64  `json:"left_seconds,omitempty" doc:"Until everything is warm and soaked, as far as can be told"`
	Soaking     bool      `json:"soaking"`
	Done        bool      `json:"done"`
}

// Flow is what the nozzle's duty tells of the filament.
type Flow struct {
	Watch   string   `json:"watch" enum:"off,tell,hold" doc:"What is done when no filament seems to flow"`
	Asked   float64  `json:"asked" doc:"By the file, mm³/s"`
	Seen    *float64 `json:"seen,omitempty" doc:"mm³/s that the duty speaks of; absent where a stop would not be found within five minutes"`
	Stopped bool     `json:"stopped" doc:"Nothing flows"`
}

// Tune asks for a heater's PID to be tuned by the firmware.
type Tune struct {
	Setpoint float64 `json:"setpoint" doc:"°C at which it is tuned: that of printing" example:"210"`
	Cycles   int     `json:"cycles" default:"8" minimum:"3" maximum:"20" doc:"Swings about the setpoint"`
}

// ApplyTuning says what to do with the constants.
type ApplyTuning struct {
	Save bool `json:"save" default:"false" doc:"Let the firmware keep them over a restart"`
}

// Tuning is how the tuning of a heater's PID stands.
type Tuning struct {
	Heater       string     `json:"heater"`
	Setpoint     float64    `json:"setpoint"`
	Cycle        int        `json:"cycle" doc:"That have been made"`
	Cycles       int        `json:"cycles" doc:"That were asked for"`
	Begun        time.Time  `json:"begun"`
	Ended        *time.Time `json:"ended,omitempty" doc:"Absent while it goes on"`
	Failed       string     `json:"failed,omitempty" doc:"Why it came to nothing"`
	Found        bool       `json:"found" doc:"P, I and D are what it has found"`
	P            float64    `json:"p" doc:"In the firmware's units"`
	I            float64    `json:"i"`
	D            float64    `json:"d"`
	Applied      bool       `json:"applied" doc:"The firmware has them"`
	Saved        bool       `json:"saved" doc:"And keeps them over a restart"`
	RippleBefore *float64   `json:"ripple_before,omitempty" doc:"How the heater swung while it was last held before, standard deviation, K"`
	RippleAfter  *float64   `json:"ripple_after,omitempty" doc:"And since"`
}

// Alarm is what a guard has found.
type Alarm struct {
	ID           string     `json:"id" format:"uuid"`
	At           time.Time  `json:"at"`
	Heater       string     `json:"heater,omitempty"`
	Guard        string     `json:"guard" enum:"no-rise,slow-rise,falling,too-hot,runaway,jump,frozen,growing-need,sensor,silence,unused,no-flow"`
	Action       string     `json:"action" enum:"tell,hold,cool,halt" doc:"What the host has done by itself"`
	Text         string     `json:"text" doc:"What was seen, what was expected, what to look at"`
	Acknowledged *time.Time `json:"acknowledged,omitempty" doc:"Absent while it waits for a person"`
	By           string     `json:"by,omitempty"`
	Verdict      string     `json:"verdict,omitempty" enum:"sound,fault" doc:"What that person said it was; absent: that it was seen"`
	Reason       string     `json:"reason,omitempty" doc:"And why"`
	Said         string     `json:"said,omitempty" doc:"Both, as it is told to persons"`
}

// Acknowledgement is what a person says of an alarm that was seen.
type Acknowledgement struct {
	Verdict string `json:"verdict,omitempty" enum:"sound,fault" doc:"sound: nothing was wrong, so its guard is on trial again, and what it saw is ordinary; fault: something was, which counts for its guard; absent: it was seen"`
	Reason  string `json:"reason,omitempty" maxLength:"200" doc:"Why, for the list of alarms"`
}

// Alarms are alarms, the newest first; also the event that tells those that wait.
type Alarms struct {
	Alarms []Alarm `json:"alarms"`
}

// HeatModels is how the heaters behave, learned from the log.
type HeatModels struct {
	Models []HeatModel `json:"models"`
}

// HeatModel is how one heater behaves, each figure with its standard deviation.
type HeatModel struct {
	Heater       string    `json:"heater"`
	Known        bool      `json:"known" doc:"Enough has been seen; otherwise the figures mean nothing"`
	Gain         float64   `json:"gain" doc:"K above the room at full duty"`
	TimeConstant float64   `json:"time_constant_seconds"`
	Dead         float64   `json:"dead_seconds" doc:"From a change of the duty to its effect"`
	Rise         Estimate  `json:"rise" doc:"K/s at full duty"`
	Loss         Estimate  `json:"loss" doc:"To the room, 1/s"`
	FanLoss      Estimate  `json:"fan_loss" doc:"More with the part fan at full speed, 1/s"`
	Melt         Estimate  `json:"melt" doc:"More for each mm³/s of filament, 1/s"`
	Ambient      Estimate  `json:"ambient" doc:"°C"`
	Hours        float64   `json:"hours" doc:"Of readings it was learned from, as far as they still count"`
	Curve        []float64 `json:"curve,omitempty" doc:"While it warms up: °C as predicted, a point for each step from now on"`
	CurveStep    float64   `json:"curve_step_seconds,omitempty"`
	Needs        *Needs    `json:"needs,omitempty" doc:"Duty that it takes to hold; absent until that is known, and where the firmware tells no duty"`
	PartOff      *float64  `json:"part_off_seconds,omitempty" doc:"Of the bed: until a part comes off, were it turned off now; absent if it never does in this room"`
	PartOffAt    float64   `json:"part_off_at,omitempty" doc:"°C at which a part comes off"`
}

// Needs is the duty, from 0 to 1, that a heater takes to hold a temperature.
type Needs struct {
	At   float64   `json:"at" doc:"°C"`
	Duty Estimate  `json:"duty" doc:"Without fan and filament"`
	Fan  []FanNeed `json:"fan" doc:"Where it is known"`
	Melt *Estimate `json:"melt,omitempty" doc:"More for each mm³/s of filament; absent until it is known"`
	More *float64  `json:"more,omitempty" doc:"By what share more it needs at the least than before in this run, for what is no fan, filament or supply; absent where that cannot be told"`
}

// FanNeed is what a share of the part fan takes.
type FanNeed struct {
	Fan  float64  `json:"fan" doc:"From 0 to 1"`
	More Estimate `json:"more" doc:"Duty"`
}

// Estimate is a figure and its standard deviation.
type Estimate struct {
	Value float64 `json:"value"`
	Error float64 `json:"error"`
}

// HeatHealth is how a heater has been doing.
type HeatHealth struct {
	Heater   string        `json:"heater"`
	Findings []HeatFinding `json:"findings" doc:"What has changed; empty if nothing has"`
	Episodes []HeatEpisode `json:"episodes" doc:"The oldest first"`
}

// HeatFinding is a sentence about what has changed.
type HeatFinding struct {
	What  string `json:"what" enum:"rise,overshoot,ripple,duty"`
	Worse bool   `json:"worse"`
	Text  string `json:"text"`
}

// HeatEpisode is what one warm-up, or one hour of holding, tells.
type HeatEpisode struct {
	Kind        string    `json:"kind" enum:"warm-up,hold"`
	At          time.Time `json:"at"`
	TookSeconds float64   `json:"took_seconds"`
	Setpoint    float64   `json:"setpoint"`
	From        float64   `json:"from" doc:"°C at its beginning"`
	Rise        float64   `json:"rise,omitempty" doc:"Warm-up: K/s at full duty, at any ambient the same"`
	Overshoot   float64   `json:"overshoot,omitempty" doc:"Warm-up: K"`
	Duty        float64   `json:"duty,omitempty" doc:"Hold: mean, 0 to 1"`
	Ripple      float64   `json:"ripple,omitempty" doc:"Hold: standard deviation, K"`
}

// Position is where the printer says it is.
type Position struct {
	Known bool       `json:"known" doc:"It has said so since it was connected"`
	X     float64    `json:"x" doc:"mm"`
	Y     float64    `json:"y" doc:"mm"`
	Z     float64    `json:"z" doc:"mm"`
	E     float64    `json:"e" doc:"mm of filament"`
	Homed string     `json:"homed" doc:"The axes that have been homed, of XYZ" example:"XYZ"`
	At    *time.Time `json:"at,omitempty"`
}

// Run is one execution of a file.
type Run struct {
	ID              string             `json:"id" format:"uuid"`
	File            string             `json:"file"`
	Digest          string             `json:"digest" doc:"blake3- and 64 hexadecimal digits, as b3sum prints them; of a file stored by an older version, its SHA-256 in 64 digits"`
	State           string             `json:"state" enum:"waiting,warming,running,held,ending,finished,stopped,broken,interrupted"`
	Over            bool               `json:"over" doc:"Nothing more happens to it"`
	Going           bool               `json:"going" doc:"It is at work: neither is it over, nor does it wait to be found again"`
	May             []string           `json:"may,omitempty" enum:"hold,resume,stop,pick-up" doc:"What a person may do to it now"`
	Reason          string             `json:"reason" doc:"Why it was held, stopped or broke; empty otherwise"`
	Created         time.Time          `json:"created"`
	Started         *time.Time         `json:"started,omitempty" doc:"The first line was said"`
	Laying          *time.Time         `json:"laying,omitempty" doc:"The first plastic was laid"`
	Ended           *time.Time         `json:"ended,omitempty"`
	Commands        int                `json:"commands" doc:"Lines of the file that the printer receives"`
	Taken           int                `json:"taken" doc:"Of which it has taken"`
	FilamentMM      float64            `json:"filament_mm" doc:"What the whole file pushes"`
	EstimateSeconds float64            `json:"estimate_seconds" doc:"Time of all moves, computed from them, without warming"`
	LastedSeconds   float64            `json:"lasted_seconds" doc:"From its first line to now, or to its end"`
	Progress        *Progress          `json:"progress,omitempty" doc:"Of the run that goes on and of the last one"`
	By              string             `json:"by,omitempty" doc:"Who started it"`
	Slots           []int              `json:"slots,omitempty" doc:"From which each of the file's tools is printed; absent: from that of its number"`
	Overruled       []Overruled        `json:"overruled,omitempty" doc:"What stood in its way, and why that did not matter"`
	Until           *Until             `json:"until,omitempty" doc:"Where it is to be held, or to end"`
	Trim            *Trim              `json:"trim,omitempty" doc:"How its lines differ from the file's; of the run that goes on and of the last one"`
	Differs         string             `json:"differs,omitempty" doc:"The same in words" example:"speed 80 %, skips clip A"`
	Origin          map[string]float64 `json:"origin,omitempty" doc:"The highest setpoints that the file gives, °C; with a trim"`
	NeedsPlan       bool               `json:"needs_plan" doc:"Interrupted, and the printer has forgotten everything: it is picked up by a plan"`
}

// PickUp says where an interrupted run is picked up. What is left out the host
// chooses.
type PickUp struct {
	Layer   int      `json:"layer,omitempty" minimum:"0" doc:"From the beginning of that layer; from 1"`
	Command int      `json:"command,omitempty" minimum:"0" doc:"Or behind that many of the file's commands"`
	Height  *float64 `json:"height,omitempty" doc:"At which the nozzle is now, mm; otherwise as the run left it"`
}

// Plan says how an interrupted run would be picked up.
type Plan struct {
	Run     Run     `json:"run"`
	Command int     `json:"command" doc:"The file's commands before the one it goes on with"`
	Layer   int     `json:"layer" doc:"In which that is"`
	Layers  int     `json:"layers"`
	Z       float64 `json:"z" doc:"Height at which it goes on, mm"`
	Height  float64 `json:"height" doc:"At which the nozzle is believed to be now, mm. Z is not homed, so this must be right"`
	Steps   []Step  `json:"steps"`
}

// Step is one part of a plan.
type Step struct {
	Why      string   `json:"why"`
	Commands []string `json:"commands"`
}

// Progress is how far a run has come.
type Progress struct {
	Share       float64 `json:"share" doc:"Of the moves' time, 0 to 1"`
	LeftSeconds float64 `json:"left_seconds" doc:"Until it is done: of the warm-up, as far as that is known, and of the moves"`
	WarmSeconds float64 `json:"warm_seconds,omitempty" doc:"Of which the heaters take"`
	Command     int     `json:"command" doc:"Of the file's commands, taken by the printer"`
	Layer       int     `json:"layer" doc:"From 1; 0 before the first"`
	Layers      int     `json:"layers"`
	Z           float64 `json:"z" doc:"Height of the layer, mm"`
}

// Runs is a list of runs, the newest first.
type Runs struct {
	Runs []Run `json:"runs"`
}

// HeatLog is a window of the temperature log.
type HeatLog struct {
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	Readings []Reading `json:"readings"`
	More     bool      `json:"more" doc:"The window holds more readings; ask again from the last one's time"`
}

// Reading is one reading of one heater.
type Reading struct {
	At       time.Time `json:"at"`
	Heater   string    `json:"heater"`
	Actual   float64   `json:"actual"`
	Setpoint *float64  `json:"setpoint,omitempty"`
	Duty     *float64  `json:"duty,omitempty"`
}

// HeatChart is a window of the temperature log, drawn together to as many points
// as a picture needs.
type HeatChart struct {
	From   time.Time   `json:"from"`
	To     time.Time   `json:"to"`
	Traces []HeatTrace `json:"traces"`
	Runs   []HeatRun   `json:"runs" doc:"That went on in the window"`
	Marks  []HeatMark  `json:"marks" doc:"What happened in it, the oldest first"`
}

// HeatTrace is one heater's share of a chart, as columns of the same length. A
// point whose values are null is a gap: nothing was read from then on.
type HeatTrace struct {
	Heater   string     `json:"heater"`
	At       []int64    `json:"at" doc:"Milliseconds since 1970"`
	Low      []*float64 `json:"low" doc:"The lowest reading of the point's share of the window, °C"`
	High     []*float64 `json:"high" doc:"The highest, °C"`
	Mean     []*float64 `json:"mean" doc:"°C"`
	Setpoint []*float64 `json:"setpoint" doc:"The last, °C; null where none was reported"`
	Duty     []*float64 `json:"duty" doc:"The mean, 0 to 1; null where none was reported"`
}

// HeatRun is a run as a band in a chart.
type HeatRun struct {
	ID    string    `json:"id"`
	File  string    `json:"file"`
	State string    `json:"state"`
	From  time.Time `json:"from"`
	To    time.Time `json:"to" doc:"Now, if it goes on"`
}

// HeatMark is something that happened at one moment.
type HeatMark struct {
	At     time.Time `json:"at"`
	Kind   string    `json:"kind" enum:"setpoint,hold,resume,trim,alarm,clock"`
	Heater string    `json:"heater,omitempty"`
	Text   string    `json:"text"`
}

// SetHeat asks for a setpoint.
type SetHeat struct {
	Setpoint float64 `json:"setpoint" doc:"°C; 0 turns the heater off" example:"205"`
}

// HeatSet answers SetHeat.
type HeatSet struct {
	Heater   string  `json:"heater"`
	Setpoint float64 `json:"setpoint"`
	Taken    bool    `json:"taken" doc:"The printer has taken it; false while it is busy waiting, and it takes it then"`
}

// SayLine asks for a line to be said.
type SayLine struct {
	Line string `json:"line" doc:"One line of G-code" example:"M115" minLength:"1"`
}

// Said answers SayLine.
type Said struct {
	Line  string   `json:"line" doc:"As it was sent, without its number and checksum"`
	Reply []string `json:"reply"`
	Taken bool     `json:"taken" doc:"The printer has acknowledged it"`
}

// Wire is recent traffic, the oldest line first; also the event that tells new
// lines.
type Wire struct {
	Lines []Traffic `json:"lines"`
}

// Traffic is one line said on the wire.
type Traffic struct {
	Seq  uint64    `json:"seq" doc:"Counts up without gaps while the service runs"`
	At   time.Time `json:"at"`
	Sent bool      `json:"sent" doc:"By the host; otherwise by the printer"`
	Text string    `json:"text"`
	Kind string    `json:"kind" enum:"file,ours,answer,acknowledgement,report,error" doc:"A file's line or one of ours; of what the printer says, how it is meant"`
	Of   uint64    `json:"of,omitempty" doc:"Of what the printer says: the line that it answers"`
}

// Message is something the firmware said by itself.
type Message struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind" enum:"message,error,fatal,action,alarm"`
	Text string    `json:"text"`
}

// SignIn asks for a token in exchange for a one-time code.
type SignIn struct {
	Code string `json:"code"`
	Name string `json:"name" doc:"The program that will have the token"`
}

// Token answers SignIn.
type Token struct {
	Token string `json:"token"`
	Name  string `json:"name"`
}

// Health answers anyone.
type Health struct {
	Status string `json:"status" enum:"ok"`
}
