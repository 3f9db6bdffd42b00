package api

import (
	"encoding/json"
	"fmt"
	"reflect"
)

// Events are the live events by name, each with an example of its data: the one list
// that service, document and client share.
var Events = map[string]any{
	"link": Link{}, "heat": Heat{}, "run": Run{}, "position": Position{}, "motion": Motion{}, "outputs": Outputs{}, "routine": Performance{}, "wire": Wire{}, "message": Message{}, "alarms": Alarms{}, "bed": Bed{}, "changed": Changed{}, "notice": Notice{},
}

// EventName is the name of the event with that data; empty if there is none.
func EventName(data any) string {
	for name, example := range Events {
		if reflect.TypeOf(example) == reflect.TypeOf(data) {
			return name
		}
	}
	return ""
}

// ParseEvent reads the data of an event of that name, as one of the types of Events by
// value. A stream's event without a name is a message.
func ParseEvent(name string, data []byte) (any, error) {
	if name == "" {
		name = "message"
	}
	example, known := Events[name]
	if !known {
		return nil, fmt.Errorf("event %q is not known", name)
	}
	v := reflect.New(reflect.TypeOf(example))
	err := json.Unmarshal(data, v.Interface())
	return v.Elem().Interface(), err
}
