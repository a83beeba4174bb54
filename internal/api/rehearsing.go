package api

import (
	"time"

	"spindle/internal/core/lifecycle"
)

// ForecastInfo is what rules would do to a bucket as it stands.
type ForecastInfo struct {
	At        time.Time          `json:"at" doc:"The moment of the catalog that it is worked out on"`
	Days      int                `json:"days"`
	Actions   []ForecastAction   `json:"actions" doc:"An action each, rules by name"`
	Conflicts []ForecastConflict `json:"conflicts" doc:"Where one rule's action comes first before another's"`
	Empty     []string           `json:"empty" doc:"Rules whose scope holds nothing today"`
	Share     float64            `json:"share" doc:"Of the bucket's versions that would be removed at once; a run asks beyond the guard's share"`
}

// ForecastAction is what one action of a rule would do.
type ForecastAction struct {
	Rule    string           `json:"rule"`
	Action  int              `json:"action" doc:"Its place in the rule, from 0"`
	Of      string           `json:"of"`
	Do      string           `json:"do"`
	To      string           `json:"to,omitempty"`
	When    string           `json:"when" doc:"In words, with what the age is counted from"`
	Objects int64            `json:"objects" doc:"At once"`
	Bytes   int64            `json:"bytes"`
	Ahead   int64            `json:"ahead" doc:"In the days after"`
	AheadB  int64            `json:"aheadBytes"`
	Next    *time.Time       `json:"next,omitempty" doc:"When the next is due after now"`
	ByDay   []ForecastDay    `json:"byDay" doc:"Days on which there is something; 0 is at once"`
	Cost    float64          `json:"cost" doc:"Change of the cost of a month, when all of it is done"`
	Early   float64          `json:"early,omitempty" doc:"Price of leaving a tier before its shortest stay"`
	Samples []ForecastSample `json:"samples"`
}

// ForecastDay is what comes to be due on a day.
type ForecastDay struct {
	Day     int   `json:"day"`
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
}

// ForecastSample is a version on which an action would act.
type ForecastSample struct {
	Key  string `json:"key"`
	Age  int    `json:"age" doc:"Days, on its day"`
	Size int64  `json:"size"`
	Day  int    `json:"day"`
}

// ForecastConflict is that an action of one rule comes first before one of another.
type ForecastConflict struct {
	Winner     string `json:"winner"`
	WinnerWhen string `json:"winnerWhen"`
	Loser      string `json:"loser"`
	LoserWhen  string `json:"loserWhen"`
	Why        string `json:"why"`
	Objects    int64  `json:"objects"`
	Bytes      int64  `json:"bytes"`
	Sample     string `json:"sample,omitempty"`
}

// AgeBar is what is of an age.
type AgeBar struct {
	Age      int    `json:"age" doc:"Whole days"`
	Tier     string `json:"tier"`
	Previous bool   `json:"previous" doc:"Of previous versions, since they were replaced; of current ones since they were written otherwise"`
	Objects  int64  `json:"objects"`
	Bytes    int64  `json:"bytes"`
}

// ComingInfo is what the rules have in store for a version.
type ComingInfo struct {
	Of      string        `json:"of" doc:"As what the rules see it: current, previous or markers"`
	Since   time.Time     `json:"since" doc:"What its age is counted from"`
	Counted string        `json:"counted" doc:"That in words"`
	Coming  []ComingThing `json:"coming" doc:"By time; what comes after a removal is not told"`
	None    string        `json:"none,omitempty" doc:"Why nothing is to come"`
}

// ComingThing is something that is to come for a version.
type ComingThing struct {
	At   time.Time `json:"at"`
	Rule string    `json:"rule"`
	Do   string    `json:"do" enum:"move,remove"`
	To   string    `json:"to,omitempty"`
	When string    `json:"when" doc:"The action in words"`
}

// ForecastAsk asks what rules will do.
type ForecastAsk struct {
	Rules []lifecycle.Form `json:"rules,omitempty" maxItems:"200" doc:"In place of the bucket's of the same names, or beside them"`
	Only  bool             `json:"only,omitempty" doc:"Those rules alone"`
	Days  int              `json:"days" required:"false" minimum:"0" maximum:"3650" default:"90"`
}

// AgesAsk asks how old objects are.
type AgesAsk struct {
	Scope lifecycle.ScopeForm `json:"scope,omitempty"`
}
