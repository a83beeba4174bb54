package api

import "time"

// EndpointInfo is another store.
type EndpointInfo struct {
	ID        int64          `json:"id" doc:"By which the metrics name it"`
	Name      string         `json:"name"`
	URL       string         `json:"url"`
	Region    string         `json:"region"`
	Style     string         `json:"style" enum:"path,host" doc:"Of addresses"`
	Key       string         `json:"key" doc:"The id of our access key there"`
	Note      string         `json:"note,omitempty"`
	Bandwidth int64          `json:"bandwidth" doc:"Bytes a second at the most, from each process; 0: no limit"`
	Bucket    string         `json:"bucket,omitempty" doc:"That checks look at; absent: the first that the key sees"`
	Revision  int            `json:"revision"`
	Created   time.Time      `json:"created"`
	CreatedBy string         `json:"createdBy"`
	Health    EndpointHealth `json:"health"`
}

// EndpointHealth is how an endpoint stood at its last check.
type EndpointHealth struct {
	State     string        `json:"state" enum:"not checked,healthy,slow,failing,unreachable,refusing"`
	Since     time.Time     `json:"since" doc:"Of the state"`
	Checked   *time.Time    `json:"checked,omitempty"`
	Latency   float64       `json:"latency" doc:"Milliseconds of a plain request"`
	Field     string        `json:"field,omitempty" doc:"At fault, when something is wrong"`
	Says      string        `json:"says,omitempty"`
	Remedy    string        `json:"remedy,omitempty"`
	Abilities []AbilityInfo `json:"abilities"`
}

// AbilityInfo tells whether an endpoint can do something.
type AbilityInfo struct {
	Name string `json:"name"`
	Can  string `json:"can" enum:"yes,no,not known"`
}

// EndpointChange is what can be said of an endpoint; what is not named stays as it is,
// or is found out.
type EndpointChange struct {
	URL       *string `json:"url,omitempty" maxLength:"300" doc:"Scheme and host, as https://HOST:PORT"`
	Region    *string `json:"region,omitempty" maxLength:"64" doc:"Found out when it is not given"`
	Style     *string `json:"style,omitempty" doc:"path or host; found out when it is not given"`
	Key       *string `json:"key,omitempty" maxLength:"128" doc:"The id of our access key there"`
	Secret    *string `json:"secret,omitempty" maxLength:"300" doc:"Of the key; never told again"`
	Note      *string `json:"note,omitempty" maxLength:"500"`
	Bandwidth *int64  `json:"bandwidth,omitempty" doc:"Bytes a second at the most, from each process; 0: no limit"`
	Bucket    *string `json:"bucket,omitempty" maxLength:"63" doc:"That checks look at"`
	Write     bool    `json:"write,omitempty" doc:"Also put, read and remove small objects in that bucket"`
	Anyway    bool    `json:"anyway,omitempty" doc:"Save it whatever the check says"`
}

// NewEndpoint is what a new endpoint begins with.
type NewEndpoint struct {
	Name string `json:"name" maxLength:"63"`
	EndpointChange
}

// EndpointUpdate is a change of what is there.
type EndpointUpdate struct {
	EndpointChange
	Revision
}

// EndpointCheckAsk asks to check an endpoint.
type EndpointCheckAsk struct {
	Bucket string `json:"bucket,omitempty" maxLength:"63" doc:"To look at, instead of the usual one"`
	Write  bool   `json:"write,omitempty" doc:"Also put, read and remove small objects in it"`
}
