package api

import (
	"time"

	"spindle/internal/core/lifecycle"
)

// Rules are the rules of a bucket.
type Rules struct {
	Revision int        `json:"revision" doc:"0 when there never were any"`
	Rules    []RuleInfo `json:"rules" doc:"By name"`
	Saved    *time.Time `json:"saved,omitempty"`
	SavedBy  string     `json:"savedBy,omitempty"`
	Acts     *time.Time `json:"acts,omitempty" doc:"They wait until then; absent when they act"`
	Looked   *time.Time `json:"looked,omitempty" doc:"All that was due before this moment was found and dealt with"`
}

// RuleInfo is a rule, with what it did last.
type RuleInfo struct {
	lifecycle.Form
	Did []lifecycle.RunCount `json:"did,omitempty" doc:"In the last run that did something"`
}

// RulesSaving is how rules are saved.
type RulesSaving struct {
	IfRevision int  `json:"ifRevision,omitempty" minimum:"-1" doc:"Only if the rules are at this revision; -1: only if there never were any"`
	Grace      *int `json:"graceSeconds,omitempty" minimum:"0" maximum:"2592000" doc:"How long what is new waits before it acts; 600 otherwise"`
}

// PastRulesInfo is a state that the rules of a bucket had.
type PastRulesInfo struct {
	Revision int              `json:"revision"`
	At       time.Time        `json:"at"`
	By       string           `json:"by"`
	What     string           `json:"what"`
	Rules    []lifecycle.Form `json:"rules"`
}

// PastRulesPage is a page of states.
type PastRulesPage struct {
	History []PastRulesInfo `json:"history"`
	Next    int             `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
}

// RulesSave saves all rules of a bucket.
type RulesSave struct {
	RulesSaving
	Rules []lifecycle.Form `json:"rules" maxItems:"200"`
}

// RuleSave saves a rule of a bucket.
type RuleSave struct {
	RulesSaving
	Rule lifecycle.Form `json:"rule"`
	New  bool           `json:"new,omitempty" doc:"Refuse when there is a rule of the name"`
}

// RulesPut saves some rules of a bucket.
type RulesPut struct {
	RulesSaving
	Rules []lifecycle.Form `json:"rules" minItems:"1" maxItems:"200"`
}

// RulesCheck asks what is wrong with rules.
type RulesCheck struct {
	Rules []lifecycle.Form `json:"rules" maxItems:"200"`
}
