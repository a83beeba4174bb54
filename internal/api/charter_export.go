package api

// CharterText is a charter as it is written down.
type CharterText struct {
	Text string `json:"text" doc:"YAML"`
}
