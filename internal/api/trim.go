package api

// Trim is how a run differs from its file. What is left out is as in the file.
type Trim struct {
	Heaters map[string]float64 `json:"heaters,omitempty" example:"{\"nozzle0\":5}"`
	First   map[string]float64 `json:"first_layer,omitempty"`
	TrimNumbers
	Skip map[string]bool `json:"skip,omitempty" doc:"Objects whose lines are left out, by key or name: true"`
}

// TrimNumbers are what of a Trim is one number; 0 is as in the file.
type TrimNumbers struct {
	Speed        float64 `json:"speed_percent,omitempty"`
	Flow         float64 `json:"flow_percent,omitempty"`
	FanLeast     float64 `json:"fan_least_percent,omitempty"`
	FanMost      float64 `json:"fan_most_percent,omitempty"`
	Height       float64 `json:"height_mm,omitempty"`
	Acceleration float64 `json:"acceleration,omitempty"`
}

// TrimWanted is what is to be different about them.
type TrimWanted struct {
	Speed        *float64 `json:"speed_percent,omitempty"`
	Flow         *float64 `json:"flow_percent,omitempty"`
	FanLeast     *float64 `json:"fan_least_percent,omitempty"`
	FanMost      *float64 `json:"fan_most_percent,omitempty"`
	Height       *float64 `json:"height_mm,omitempty"`
	Acceleration *float64 `json:"acceleration,omitempty"`
}

// ChangeTrim changes how a run differs from its file; what is left out stays. A
// percentage of 100, and 0 of anything else, is as in the file.
type ChangeTrim struct {
	AsSliced bool               `json:"as_sliced,omitempty" doc:"Everything is as in the file first"`
	Heaters  map[string]float64 `json:"heaters,omitempty"`
	First    map[string]float64 `json:"first_layer,omitempty"`
	TrimWanted
	Skip map[string]bool `json:"skip,omitempty" doc:"Whether an object is left out, by key or name"`
}

// Until is where a run is to be held, or to end.
type Until struct {
	End   bool   `json:"end" doc:"It ends there; otherwise it is held"`
	Layer int    `json:"layer" doc:"Before which that is, from 1"`
	By    string `json:"by,omitempty" doc:"Who wants it"`
}

// SetUntil says where a run is to be held, or to end.
type SetUntil struct {
	End    bool    `json:"end,omitempty" doc:"End there; otherwise hold"`
	Layer  int     `json:"layer,omitempty" minimum:"0" doc:"Held before this layer begins, or ended after it; from 1. Without it by height; to end, after the one that is drawn"`
	Height float64 `json:"height_mm,omitempty" minimum:"0" doc:"Held before the first layer that is as high"`
}
