package api

import "time"

// ClockInfo is how the clock stands by which records and ages are told.
type ClockInfo struct {
	Now    time.Time  `json:"now" doc:"As it is told"`
	Ahead  float64    `json:"ahead" doc:"Seconds that the clock of the process that answers is ahead of the database's"`
	Behind float64    `json:"behind" doc:"Seconds that the database's clock jumped back; the time that is told goes on"`
	Waits  bool       `json:"waits" doc:"Rules that act by age wait until somebody says that the clock is right"`
	Jumps  []JumpInfo `json:"jumps" doc:"Latest first"`
}

// JumpInfo is a jump of the database's clock.
type JumpInfo struct {
	ID      int64      `json:"id"`
	From    time.Time  `json:"from" doc:"Where it was, as it was told"`
	To      time.Time  `json:"to" doc:"Where it came to"`
	Since   time.Time  `json:"since" doc:"What was written from then on until the jump is in doubt: it is as old as the jump"`
	State   string     `json:"state" enum:"asked about,right,undone"`
	Decided *time.Time `json:"decided,omitempty"`
	By      string     `json:"by,omitempty"`
}

// ClockAsk says that the clock is right.
type ClockAsk struct {
	WrongSince string `json:"wrongSince,omitempty" maxLength:"64" doc:"A moment, in the time that was told then: what was written before it is as old as it seems. Otherwise all since the jump before is in doubt"`
}
