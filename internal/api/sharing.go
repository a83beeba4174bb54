package api

// SharedWith says to whom something was opened.
type SharedWith struct {
	Grant  int64  `json:"grant"`
	To     string `json:"to" doc:"account NAME, person NAME, key ID, or anyone"`
	For    string `json:"for" doc:"The purpose, or the rights"`
	Prefix string `json:"prefix,omitempty"`
}
