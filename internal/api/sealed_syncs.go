package api

// SyncRestoreAsk asks to bring back what a job wrote.
type SyncRestoreAsk struct {
	To     string `json:"to,omitempty" maxLength:"1200" doc:"Where it is brought; empty: where it came from"`
	Prefix string `json:"prefix,omitempty" maxLength:"1024" doc:"Only keys that begin so"`
	AsOf   string `json:"asOf,omitempty" maxLength:"64" doc:"As it was at a moment, such as 2d or 2026-11-20 14:00, where the target keeps versions"`
}
