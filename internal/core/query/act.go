package query

// Act is what is done with each object that is found.
type Act string

// Acts.
const (
	ActAnnotate Act = "annotate" // set and take away metadata and tags
	ActMove     Act = "move"     // to a tier
	ActCopy     Act = "copy"     // beneath a prefix
	ActRemove   Act = "remove"
	ActPutBack  Act = "put-back" // to how it was at a moment
)

// Acts are all of them, with the counter of each.
var Acts = map[Act]string{ActAnnotate: "annotated", ActMove: "moved", ActCopy: "copied", ActRemove: "removed",
	ActPutBack: "restored"}
