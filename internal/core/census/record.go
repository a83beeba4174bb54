package census

// Record is a row as it is read: a text for each column, "" for what is missing.
type Record []string

// Total is how many rows have a value, and their bytes.
type Total struct {
	Value string `json:"value"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
}
