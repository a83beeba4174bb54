package api

// Headers and cookies of calls, beside those of HTTP.
const (
	SessionCookie = "spindle-session"   // of who signed in
	DeviceCookie  = "spindle-device"    // of a device from which somebody signed in before
	ForgeryHeader = "X-Spindle-Forgery" // carries the session's token against forged requests
	AccountHeader = "X-Spindle-Account" // names the account that a page acts in
	FieldsHeader  = "Spindle-Fields"    // carries metadata and tags of an upload: a JSON object in base64
	DigestHeader  = "Spindle-Digest"    // compared: what is sent through agrees with a digest that the endpoint told
)
