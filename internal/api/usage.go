package api

// UsageInfo is what a bucket, or a part of one, holds.
type UsageInfo struct {
	Objects       int64 `json:"objects"`
	Bytes         int64 `json:"bytes"`
	Previous      int64 `json:"previous"`
	PreviousBytes int64 `json:"previousBytes"`
	Markers       int64 `json:"markers" doc:"Delete markers"`
}

// PrefixInfo is usage beneath a prefix.
type PrefixInfo struct {
	Prefix string `json:"prefix"`
	UsageInfo
}

// ChangedBucket says what happened in a bucket in a span of days.
type ChangedBucket struct {
	Bucket  string `json:"bucket"`
	Written int64  `json:"written"`
	Removed int64  `json:"removed"`
	Bytes   int64  `json:"bytes" doc:"Added, less what went"`
}

// UsagePoint is usage at the end of a day (UTC).
type UsagePoint struct {
	Day      string `json:"day" doc:"YYYY-MM-DD"`
	Objects  int64  `json:"objects"`
	Current  int64  `json:"current" doc:"Bytes of current versions"`
	Previous int64  `json:"previous" doc:"Bytes of previous versions"`
}
