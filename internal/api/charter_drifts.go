package api

import "time"

// CharterDrift is a thing that is not as a charter declares it.
type CharterDrift struct {
	CharterStep
	Drifted
	Fields map[string]Drifted `json:"fields,omitempty" doc:"Of the fields that differ, those of which the trail tells"`
}

// Drifted says who changed something last since a charter was enacted, where the trail tells.
type Drifted struct {
	By *string    `json:"by,omitempty" doc:"Who changed it last since it was enacted, where the trail tells"`
	At *time.Time `json:"at,omitempty"`
}
