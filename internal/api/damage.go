package api

import "time"

// DamageInfo is a body that is damaged, and what could mend it.
type DamageInfo struct {
	Bucket  string    `json:"bucket"`
	Key     string    `json:"key"`
	Found   time.Time `json:"found"`
	Problem string    `json:"problem"`
	Mends   []string  `json:"mends" doc:"What could mend it, the best first"`
}
