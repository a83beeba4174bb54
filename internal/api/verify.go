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

// VerifyAsk asks to compare both sides of a replication rule.
type VerifyAsk struct {
	Deep   bool   `json:"deep"`
	Repair bool   `json:"repair"`
	Target string `json:"target"`
	After  string `json:"after"` // objects with keys after it alone
	Most   int64  `json:"most"`  // bytes that are read at each target before it ends; 0: all
}
