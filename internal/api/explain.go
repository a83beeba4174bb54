package api

// Explanation says whether somebody may do something, and why.
type Explanation struct {
	Subject string `json:"subject" doc:"Who was asked about"`
	Account string `json:"account,omitempty" doc:"In which it acts"`
	Role    string `json:"role,omitempty"`
	Do      string `json:"do"`
	Target  string `json:"target"`
	Owner   string `json:"owner,omitempty" doc:"The account that owns the bucket, for those who act in it"`
	Allowed bool   `json:"allowed"`
	By      string `json:"by" doc:"What decided: operator, role, grant, limit, or nothing"`
	Grant   int64  `json:"grant,omitempty" doc:"The grant that decided or came nearest"`
	Why     string `json:"why"`
	Remedy  string `json:"remedy,omitempty" doc:"What would change it"`
}

// ExplainIn asks who may do what.
type ExplainIn struct {
	Subject string `json:"subject,omitempty" maxLength:"128" doc:"key:ID, key:NAME, person:NAME or anyone; who asks otherwise"`
	Account string `json:"account,omitempty" maxLength:"64" doc:"In which the person acts; the first otherwise"`
	Do      string `json:"do" maxLength:"16" doc:"list, read, write, remove or settings"`
	Bucket  string `json:"bucket" maxLength:"64"`
	Key     string `json:"key,omitempty" doc:"A key, or the prefix of a listing; empty for the bucket"`
}

// Reach is what somebody may do in a bucket.
type Reach struct {
	Who    string   `json:"who" doc:"key ID, person NAME, account NAME or anyone"`
	Name   string   `json:"name,omitempty" doc:"Of a key"`
	Rights []string `json:"rights" doc:"In the whole bucket"`
	Some   []string `json:"some" doc:"Further, in parts of it"`
}

// ReachOf says who reaches a bucket.
type ReachOf struct {
	Bucket  string  `json:"bucket"`
	Account string  `json:"account"`
	Reach   []Reach `json:"reach" doc:"In the order of subjects"`
	More    bool    `json:"more,omitempty" doc:"There are more than 200 keys or people: the rest is not shown"`
}

// Trial is what came of a real request.
type Trial struct {
	Request string `json:"request" doc:"What was asked for, in words"`
	Allowed bool   `json:"allowed"`
	Status  int    `json:"status" doc:"Of the answer"`
	Code    string `json:"code,omitempty" doc:"Of the answer, when it is an error"`
	Says    string `json:"says,omitempty" doc:"What the answer says, when it is an error"`
}
