package api

// ResetAsk asks for a new password of a person.
type ResetAsk struct {
	Password string `json:"password,omitempty" maxLength:"1024" doc:"Made when it is not given"`
}
