// Package posting says what is posted to addresses outside of changes in the journal: as
// events of CloudEvents 1.0 in JSON, in batches, signed as HTTP messages are (RFC 9421) with
// a digest of the content (RFC 9530).
package posting
