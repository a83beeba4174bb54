package api

import "spindle/internal/core/replication"

// VerifyStep is a line of what a comparison of both sides answers with (JSON lines):
// how far it is, a difference, what it came to at a target, or what is wrong.
type VerifyStep struct {
	Target     string                  `json:"target,omitempty"`
	Progress   *replication.Verified   `json:"progress,omitempty"`
	Difference *replication.Difference `json:"difference,omitempty"`
	Result     *replication.Verified   `json:"result,omitempty"`
	Problem    *Problem                `json:"problem,omitempty"`
}
