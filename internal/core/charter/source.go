package charter

// Source is a file of a charter.
type Source struct {
	Name string `json:"name" maxLength:"1000"`
	Text string `json:"text" maxLength:"2097152"`
}
