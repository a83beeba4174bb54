package api

// ReplaceKeyAsk asks for a key in place of another.
type ReplaceKeyAsk struct {
	Grace string `json:"grace,omitempty" maxLength:"64" default:"24h" doc:"How long the old one works: a time such as 24h or 7d, or 0"`
}
