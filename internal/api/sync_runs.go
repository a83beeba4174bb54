package api

// SyncOutcomeInfo is what became of an object in a run.
type SyncOutcomeInfo struct {
	Key   string `json:"key"`
	Do    string `json:"do"`
	Why   string `json:"why"`
	Bytes int64  `json:"bytes"`
	Code  string `json:"code,omitempty" doc:"Of what failed"`
	Says  string `json:"says,omitempty"`
}

// SyncRunAsk asks to run a job.
type SyncRunAsk struct {
	Anyway bool `json:"anyway,omitempty" doc:"The guard does not stop it, nor do sides that are others than before"`
}
