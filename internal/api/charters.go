package api

import (
	"time"

	"spindle/internal/core/charter"
)

// CharterFiles are the files of a charter.
type CharterFiles struct {
	Files []charter.Source  `json:"files" minItems:"1" maxItems:"200"`
	Set   map[string]string `json:"set,omitempty" doc:"Variables, before those of the files"`
}

// CharterAsk says what is to be compared.
type CharterAsk struct {
	CharterFiles
	Retire bool `json:"retire,omitempty" doc:"Say what taking down what they declare does"`
}

// CharterStep is a thing that is made, changed or removed.
type CharterStep struct {
	Do      string                `json:"do" enum:"make,change,remove"`
	Kind    string                `json:"kind"`
	Name    string                `json:"name"`
	Changes []charter.FieldChange `json:"changes,omitempty" doc:"Field by field"`
	Holds   *Quantity             `json:"holds,omitempty" doc:"What is in a bucket that is removed: it goes, if that is agreed to"`
	Cannot  string                `json:"cannot,omitempty" doc:"Why it cannot be done"`
}

// CharterPlan is what enacting does.
type CharterPlan struct {
	Charter string        `json:"charter"`
	Account string        `json:"account"`
	Digest  string        `json:"digest" doc:"SHA-256 of the files"`
	Plan    string        `json:"plan" doc:"Of the steps: to be sent when they are agreed to"`
	Steps   []CharterStep `json:"steps" doc:"In their order"`
	Things  int           `json:"things" doc:"That are declared"`
	Secrets []string      `json:"secrets,omitempty" doc:"That the steps need: env NAME or file PATH"`
}

// CharterInfo is a charter, as it was enacted last.
type CharterInfo struct {
	Charter string     `json:"charter"`
	State   string     `json:"state" enum:"enacting,retiring,enacted,retired,stopped"`
	Says    string     `json:"says,omitempty" doc:"Why it stopped"`
	Digest  string     `json:"digest"`
	At      time.Time  `json:"at"`
	Ended   *time.Time `json:"ended,omitempty"`
	By      string     `json:"by"`
	Source  string     `json:"source,omitempty"`
	Done    int        `json:"done" doc:"Steps"`
	Steps   int        `json:"steps"`
	Things  int        `json:"things" doc:"That it answers for"`
	Drift   *int       `json:"drift,omitempty" doc:"Things that are not as it declares; in lists"`
}
