package api

import (
	"time"

	"spindle/internal/core/object"
)

// OrderInfo is work on a whole prefix that the service does for somebody.
type OrderInfo struct {
	ID       int64            `json:"id"`
	Kind     string           `json:"kind" doc:"rename, restore, convert, found, place or check"`
	Bucket   string           `json:"bucket"`
	Placed   string           `json:"placement,omitempty" doc:"Of place: what the bucket gets"`
	Where    string           `json:"where,omitempty" doc:"Of found: the expression"`
	Act      string           `json:"act,omitempty" doc:"Of found: what is done with each object"`
	Prefix   string           `json:"prefix"`
	ToBucket string           `json:"toBucket,omitempty"`
	ToPrefix string           `json:"toPrefix,omitempty"`
	AsOf     time.Time        `json:"asOf,omitzero"`
	State    string           `json:"state" enum:"running,stopped,done,failed"`
	Problem  string           `json:"problem,omitempty" doc:"Why it failed; it can go on when that is mended"`
	Total    int64            `json:"total" doc:"Keys to deal with, counted at the start"`
	Done     int64            `json:"done" doc:"Keys dealt with"`
	Counts   map[string]int64 `json:"counts" doc:"Of those dealt with: renamed, restored, removed (with a delete marker, because they were not there then), unchanged, converted (whose content was written anew)"`
	Sealed   bool             `json:"sealed,omitempty" doc:"Of a conversion: content is to be encrypted at rest; plain otherwise"`
	Bytes    int64            `json:"bytes" doc:"Of the objects renamed or restored, none of which were moved; of content written anew"`
	By       string           `json:"by"`
	Began    time.Time        `json:"began" doc:"A restore is undone by one as of this moment"`
	Changed  time.Time        `json:"changed"`
}

// Rehearsal says what an order would do.
type Rehearsal struct {
	Counts map[string]int64 `json:"counts" doc:"Of keys, by the kind's counters: renamed, restored, removed (which were not there then, and get a delete marker), unchanged, converted"`
	Taken  int64            `json:"taken,omitempty" doc:"Of those renamed, whose new key is taken"`
	First  string           `json:"first,omitempty" doc:"The first key that is taken"`
	Bytes  int64            `json:"bytes" doc:"Of the objects renamed or restored, none of which are moved; of bodies to be written anew"`

	Seconds     int64    `json:"seconds,omitempty" doc:"Of a placement: that it may take, roughly"`
	MonthBefore float64  `json:"monthBefore,omitempty" doc:"Of a placement: what keeping what is moved costs a month"`
	MonthAfter  float64  `json:"monthAfter,omitempty" doc:"Of a placement: and what it will cost"`
	Limits      []string `json:"limits,omitempty" doc:"Of a placement: what cannot be done with what has it"`
}

// Total gives the keys that the order deals with.
func (r Rehearsal) Total() (n int64) {
	for _, c := range r.Counts {
		n += c
	}
	return n
}

// OrderIn says what is ordered.
type OrderIn struct {
	Kind     string `json:"kind" maxLength:"32" doc:"rename, restore, convert, found, place or check"`
	Bucket   string `json:"bucket" maxLength:"64"`
	Prefix   string `json:"prefix,omitempty" doc:"Empty for the whole bucket"`
	ToBucket string `json:"toBucket,omitempty" maxLength:"64"`
	ToPrefix string `json:"toPrefix,omitempty"`
	Replace  bool   `json:"replace,omitempty" doc:"Rename onto keys that are taken"`
	AsOf     string `json:"asOf,omitempty" maxLength:"64"`

	Where    string      `json:"where,omitempty" maxLength:"4000" doc:"Of found: an expression"`
	Act      string      `json:"act,omitempty" enum:"annotate,move,copy,remove,put-back" doc:"Of found: what is done with each object"`
	Metadata object.Edit `json:"metadata,omitzero" doc:"Of annotate"`
	Tags     object.Edit `json:"tags,omitzero" doc:"Of annotate"`
	Tier     string      `json:"tier,omitempty" maxLength:"32" doc:"Of move"`
	Expect   *int64      `json:"expect,omitempty" minimum:"0" doc:"Refuse it when more objects are found; a removal asks for it"`

	Placement string `json:"placement,omitempty" maxLength:"32" doc:"Of place: what the bucket gets"`
	All       bool   `json:"all,omitempty" doc:"Of place: what was put into other tiers is moved too"`
}
