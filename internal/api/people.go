package api

import "time"

// PersonInfo is somebody who signs in.
type PersonInfo struct {
	Name       string     `json:"name"`
	Operator   bool       `json:"operator" doc:"Of the service"`
	Active     bool       `json:"active"`
	Note       string     `json:"note,omitempty"`
	MustChange bool       `json:"mustChange" doc:"The password was given by somebody else and is changed at the next sign-in"`
	Roles      []RoleIn   `json:"roles"`
	Locked     *time.Time `json:"locked" doc:"After failures from devices that are not known: none of those may try before then"`
	SignedIn   *time.Time `json:"signedIn" doc:"Last"`
	Created    time.Time  `json:"created"`
	CreatedBy  string     `json:"createdBy"`
	Revision   int        `json:"revision"`
}

// PersonSecret is a person with a password that is shown once.
type PersonSecret struct {
	Person   PersonInfo `json:"person"`
	Password string     `json:"password,omitempty" doc:"Shown once; empty when it was given"`
}

// PersonPage is a page of a list.
type PersonPage struct {
	People []PersonInfo `json:"people"`
	Next   string       `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}
