package endpoint

import "time"

// Result of one line of a check.
type Result string

// Results of a line.
const (
	Agrees   Result = "agrees"
	Wrong    Result = "wrong"
	NotTried Result = "not tried"
	NotUsed  Result = "not used"
)

// Finding is one line of a check.
type Finding struct {
	Field   string `json:"field" enum:"address,port,protocol,certificate,clock,region,style,key,bucket,there-and-back,abilities" doc:"What was looked at"`
	Result  Result `json:"result" enum:"agrees,wrong,not tried,not used"`
	Seen    string `json:"seen" doc:"What was seen"`
	Remedy  string `json:"remedy,omitempty" doc:"What to do about it"`
	Address string `json:"address,omitempty" doc:"The address that would be right, when it is known"`

	Fails bool `json:"-"` // the service is there and fails, whatever is asked of it
}

// Report is a check's outcome: the first wrong line names the field at fault.
type Report struct {
	Good     bool      `json:"good"`
	At       time.Time `json:"at"`
	Findings []Finding `json:"findings"`

	// What was found, with Settings.Find.
	Region    string    `json:"region,omitempty"`
	Style     string    `json:"style,omitempty"`
	Latency   float64   `json:"latency,omitempty" doc:"Milliseconds of a plain request"`
	Abilities Abilities `json:"abilities,omitempty"`
}

// Fault gives the first line that is wrong, nil when all is well.
func (r *Report) Fault() *Finding {
	for i := range r.Findings {
		if r.Findings[i].Result == Wrong {
			return &r.Findings[i]
		}
	}
	return nil
}
