package census

import (
	"bytes"
	"encoding/json"
	"time"
)

// ManifestName is the key of the manifest in the folder of a run. It is written last:
// where it is, the census is whole.
const ManifestName = "census.json"

// Manifest says what the files of a census hold.
type Manifest struct {
	Census   string    `json:"census"`
	AsOf     time.Time `json:"asOf"` // all rows were so at that moment
	Written  time.Time `json:"written"`
	From     string    `json:"from"` // bucket and prefix; or the account
	Where    string    `json:"where,omitempty"`
	Versions bool      `json:"versions"` // previous versions and delete markers are listed too
	Format   Format    `json:"format"`
	Columns  []Column  `json:"columns"`
	Rows     int64     `json:"rows"`
	Bytes    int64     `json:"bytes"` // of what is listed
	Files    []File    `json:"files"`
}

// Encode writes the manifest.
func (m *Manifest) Encode() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	err := e.Encode(m)
	return b.Bytes(), err
}
