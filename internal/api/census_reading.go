package api

import "spindle/internal/core/census"

// CensusRows is a page of a census.
type CensusRows struct {
	Columns []string        `json:"columns"`
	Rows    []census.Record `json:"rows" doc:"A text for each column, empty for what is missing"`
	Next    string          `json:"next,omitempty" doc:"Give it as after for what follows; absent at the end. A page may be short, or empty, and go on"`
}

// CensusTotals are rows summed by a column.
type CensusTotals struct {
	By     string         `json:"by"`
	Rows   int64          `json:"rows"`
	Bytes  int64          `json:"bytes"`
	Values int            `json:"values" doc:"How many different ones there are"`
	Totals []census.Total `json:"totals" doc:"Those with the most rows first"`
}

// CensusDifference is what came, went and changed between two runs.
type CensusDifference struct {
	Was     CensusRunInfo   `json:"was"`
	Is      CensusRunInfo   `json:"is"`
	Came    int64           `json:"came"`
	Went    int64           `json:"went"`
	Changed int64           `json:"changed"`
	Columns []string        `json:"columns"`
	List    []CensusChanged `json:"list" doc:"The first ones, in the order of buckets and keys"`
	More    bool            `json:"more,omitempty" doc:"There are more than are listed"`
}

// CensusChanged is an object that came, went or changed.
type CensusChanged struct {
	Change  string        `json:"change" enum:"came,went,changed"`
	Was     census.Record `json:"was,omitempty"`
	Is      census.Record `json:"is,omitempty"`
	Columns []string      `json:"columns,omitempty" doc:"Of what changed"`
}

// CensusRowsAsk asks for rows of a census.
type CensusRowsAsk struct {
	Where string `json:"where,omitempty" maxLength:"4000" doc:"Rows that an expression of find holds for"`
	After string `json:"after,omitempty" maxLength:"100"`
	Limit int    `json:"limit,omitempty" minimum:"1" maximum:"1000" default:"100"`
}

// CensusTotalsAsk asks for sums over the rows of a census.
type CensusTotalsAsk struct {
	By    string `json:"by" maxLength:"210" doc:"A column; keys are summed by what is before their first slash, moments by day"`
	Where string `json:"where,omitempty" maxLength:"4000"`
	Limit int    `json:"limit,omitempty" minimum:"1" maximum:"1000" default:"50"`
}

// CensusCompareAsk asks what changed between two runs of censuses.
type CensusCompareAsk struct {
	With   int64  `json:"with,omitempty" doc:"The earlier run; 0: the one before that was written whole"`
	Census string `json:"census,omitempty" maxLength:"63" doc:"Another census that the earlier run is of"`
	Only   string `json:"only,omitempty" enum:"came,went,changed" doc:"List only these"`
	Limit  int    `json:"limit,omitempty" minimum:"1" maximum:"1000" default:"100"`
}
