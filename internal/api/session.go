package api

import "time"

// RoleIn is a role in an account.
type RoleIn struct {
	Account string `json:"account"`
	Role    string `json:"role" enum:"none,reader,writer,administrator" doc:"none removes a role"`
}

// SessionInfo says who is signed in.
type SessionInfo struct {
	Key        string    `json:"key,omitempty" doc:"The access key's id, when a key signed in"`
	Person     string    `json:"person,omitempty" doc:"The person's name, when one signed in"`
	Name       string    `json:"name" doc:"The key's or person's name"`
	Account    string    `json:"account" doc:"That the session acts in"`
	Role       string    `json:"role" enum:"none,reader,writer,administrator" doc:"In that account"`
	Operator   bool      `json:"operator" doc:"Of the service"`
	Accounts   []RoleIn  `json:"accounts" doc:"Those the session can act in"`
	MustChange bool      `json:"mustChange,omitempty" doc:"The password must be changed first"`
	Forgery    string    `json:"forgery" doc:"The token that every change must carry in the header X-Spindle-Forgery"`
	Expires    time.Time `json:"expires"`
}

// SignInAsk signs in.
type SignInAsk struct {
	Person   string `json:"person,omitempty" maxLength:"128"`
	Password string `json:"password,omitempty" maxLength:"1024"`
	Key      string `json:"key,omitempty" maxLength:"128" doc:"An access key's id, instead"`
	Secret   string `json:"secret,omitempty" maxLength:"256" doc:"Its secret"`
}

// SwitchAsk switches a session to another account.
type SwitchAsk struct {
	Account string `json:"account" maxLength:"64"`
}

// PasswordAsk changes the password of who asks.
type PasswordAsk struct {
	Password string `json:"password" maxLength:"1024" doc:"The one there is"`
	New      string `json:"new" maxLength:"1024"`
}
