package api

import "spindle/internal/core/bucket"

// LackingObject is an object whose metadata is not what its bucket asks for.
type LackingObject struct {
	Key   string          `json:"key"`
	Lacks []bucket.Breach `json:"lacks"`
}
