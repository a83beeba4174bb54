package api

import "time"

// AuditInfo is what the last audit of the account found.
type AuditInfo struct {
	At       *time.Time    `json:"at,omitempty" doc:"When it was; absent: there was none yet"`
	Findings []FindingInfo `json:"findings" doc:"What is serious first"`
}

// FindingInfo is a finding.
type FindingInfo struct {
	Check   string    `json:"check" doc:"Stable, for programs"`
	Subject string    `json:"subject" doc:"What it is about"`
	Grade   string    `json:"grade" enum:"serious,worth a look"`
	Says    string    `json:"says" doc:"What is so"`
	Why     string    `json:"why" doc:"Why that matters"`
	Cost    int64     `json:"cost,omitempty" doc:"Bytes that it holds"`
	Fix     string    `json:"fix" doc:"One command that mends it"`
	Page    string    `json:"page" doc:"Where the console deals with it"`
	First   time.Time `json:"first" doc:"When it was first found"`

	Mends    string        `json:"mends,omitempty" doc:"What mending it by one call does; absent where it takes more"`
	Accepted *AcceptedInfo `json:"accepted,omitempty" doc:"Somebody lets it be"`
}

// AcceptedInfo says who lets a finding be.
type AcceptedInfo struct {
	By    string    `json:"by"`
	Why   string    `json:"why"`
	Until time.Time `json:"until"`
}

// AcceptAsk asks to accept a finding for a while.
type AcceptAsk struct {
	Check   string `json:"check" maxLength:"64"`
	Subject string `json:"subject" maxLength:"2000"`
	Why     string `json:"why,omitempty" maxLength:"500" doc:"The reason; with until"`
	Until   string `json:"until,omitempty" maxLength:"64" doc:"Such as 90d, or 2027-01-31; empty: no longer accepted"`
}

// FixAsk asks to put right what a finding is about.
type FixAsk struct {
	Check   string `json:"check" maxLength:"100"`
	Subject string `json:"subject" maxLength:"2000"`
}
