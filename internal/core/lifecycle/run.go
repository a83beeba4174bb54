package lifecycle

// RunCount is what one action of one rule did in a run.
type RunCount struct {
	Rule    string `json:"rule"`
	Of      string `json:"of"`
	Do      string `json:"do"`
	To      string `json:"to,omitempty"`
	Objects int64  `json:"objects"`
	Bytes   int64  `json:"bytes"`
	Failed  int64  `json:"failed,omitempty"`
}
