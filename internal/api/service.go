package api

import "time"

// WireInfo says where clients find the wire.
type WireInfo struct {
	URL     string   `json:"url" doc:"Base address, reachable from where the desk was asked"`
	Port    int      `json:"port"`
	Scheme  string   `json:"scheme" enum:"http,https"`
	Domains []string `json:"domains" doc:"Domains of host style: BUCKET.DOMAIN"`
}

// ServiceInfo is what anyone may know of the service.
type ServiceInfo struct {
	Product string    `json:"product" enum:"spindle"`
	Role    string    `json:"role" enum:"desk" doc:"This is the desk; the wire is elsewhere"`
	Version string    `json:"version"`
	Region  string    `json:"region"`
	Wire    WireInfo  `json:"wire"`
	Time    time.Time `json:"time" doc:"The service's clock"`

	Currency string `json:"currency,omitempty" doc:"In which prices are: ISO 4217"`
	Digits   int    `json:"digits" doc:"After the point, of sums"`
}

// ServiceCheckAsk asks to check an address, as a client would reach it.
type ServiceCheckAsk struct {
	Address string `json:"address" maxLength:"512" doc:"As the client has it, with http:// or https://"`
	Style   string `json:"style" enum:"path,host"`
	Region  string `json:"region" maxLength:"128"`
	Key     string `json:"key" maxLength:"128" doc:"Access key id; empty for the one that asks"`
	Secret  string `json:"secret,omitempty" maxLength:"256" doc:"Its secret; not needed for the key that asks"`
	Bucket  string `json:"bucket,omitempty" maxLength:"63" doc:"A bucket to try"`
	Write   bool   `json:"write,omitempty" doc:"Also put, read and remove a 1 KiB object"`
}
