package api

import "time"

// PlacementInfo is a way of keeping the bytes of a bucket.
type PlacementInfo struct {
	Name     string   `json:"name"`
	Note     string   `json:"note,omitempty"`
	Tier     string   `json:"tier" doc:"Where new content goes"`
	Sealing  bool     `json:"sealing" doc:"New content is encrypted at rest, whatever the bucket says"`
	Keeps    string   `json:"keeps" doc:"How bodies are kept, in a line"`
	Losses   int      `json:"losses" doc:"Volumes that may be lost without losing a body"`
	Price    float64  `json:"price" doc:"Of a GiB kept for a month"`
	Overhead float64  `json:"overhead" doc:"Bytes on volumes for each byte of content that is not compressed"`
	Limits   []string `json:"limits,omitempty" doc:"What cannot be done with what has it, or not as elsewhere"`
	Default  bool     `json:"default,omitempty" doc:"Buckets of the account that name none have it"`

	Everyone  *bool      `json:"everyone,omitempty" doc:"It is offered to all accounts; for operators"`
	Accounts  []string   `json:"accounts,omitempty" doc:"It is offered to these; for operators"`
	Buckets   *int       `json:"buckets,omitempty" doc:"That have it; for operators"`
	Revision  int        `json:"revision"`
	Created   *time.Time `json:"created,omitempty" doc:"For operators"`
	CreatedBy string     `json:"createdBy,omitempty" doc:"For operators"`
}

// PlacementPage is what an account may choose from.
type PlacementPage struct {
	Placements []PlacementInfo `json:"placements" doc:"By name; all of them for operators who name no account"`
	Default    string          `json:"default,omitempty" doc:"What buckets of the account have that name none"`
	Fixed      bool            `json:"fixed,omitempty" doc:"They all have that one"`
	FixedBy    string          `json:"fixedBy,omitempty" doc:"Who fixed it"`
}

// PlacementChange is what can be said of a placement that is there.
type PlacementChange struct {
	Note     *string   `json:"note,omitempty" maxLength:"500" flag:"note"`
	Everyone *bool     `json:"everyone,omitempty" doc:"Offer it to all accounts" flag:"everyone"`
	Accounts *[]string `json:"accounts,omitempty" maxItems:"1000" doc:"Offer it to these, and to no others by name" flag:"offer-to,empty=offer-to-none"`
}

// PlacementUpdate is a change of what is there.
type PlacementUpdate struct {
	PlacementChange
	Revision
}

// NewPlacement is what a new placement begins with.
type NewPlacement struct {
	Name    string `json:"name" maxLength:"64"`
	Tier    string `json:"tier" maxLength:"32" flag:"tier"`
	Sealing bool   `json:"sealing,omitempty" flag:"sealing"`
	PlacementChange
}
