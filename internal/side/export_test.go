package side

// SortedForTest is sorted.
var SortedForTest = sorted
