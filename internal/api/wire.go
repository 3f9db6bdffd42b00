package api

// Commands are what is known of the commands that the open firmwares share.
type Commands struct {
	Commands []Command `json:"commands"`
}

// Command is one of them.
type Command struct {
	Command    string             `json:"command" example:"G28"`
	Does       string             `json:"does" doc:"In words, behind its name: homes"`
	Parameters []CommandParameter `json:"parameters"`
	Example    string             `json:"example"`
	Beware     []string           `json:"beware" doc:"Why one thinks twice: heats, moves, stores, sets, stops, counts, pauses, prints"`
	Text       bool               `json:"text" doc:"What follows is text, not words"`
}

// CommandParameter is one word of a command.
type CommandParameter struct {
	Letter string `json:"letter"`
	Unit   string `json:"unit"`
	Means  string `json:"means,omitempty"`
}
