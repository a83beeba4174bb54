package api

// CharterEnacting says what was agreed to.
type CharterEnacting struct {
	CharterAsk
	Plan        string            `json:"plan"`
	WithObjects bool              `json:"withObjects,omitempty"`
	Secrets     map[string]string `json:"secrets,omitempty"`
}

// CharterProgress is how far an enactment is; the last one is of all of it, or a problem.
type CharterProgress struct {
	Step    int          `json:"step" doc:"That is done, from 1; 0 before the first"`
	Steps   int          `json:"steps"`
	Does    *CharterStep `json:"does,omitempty"`
	Key     string       `json:"key,omitempty" doc:"Of a key that was made"`
	Secret  string       `json:"secret,omitempty" doc:"Of it; shown once"`
	Ended   bool         `json:"ended,omitempty"`
	Problem *Problem     `json:"problem,omitempty" doc:"At the step after; the same again goes on there"`
}
