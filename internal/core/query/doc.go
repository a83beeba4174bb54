// Package query is the language in which objects are asked for. It reads like a sentence:
//
//	size over 100 MiB and changed before 2026-01-01 and not tag checked is yes
//	key like "*.tif" and (field taxon begins with Drosera or lacks field collector)
//
// An expression is tests joined by and, or, not and brackets; and binds closer than or. A
// test names a field, says how it compares, and gives a value; values with spaces, commas,
// brackets or words of the language stand in quotation marks, in which \ takes the next
// character as it is. Fields:
//
//	bucket key type tier writer md5 crc64           words: is, is not, is one of, begins with,
//	                                                ends with, contains, like
//	version                                         its id: is, is one of
//	size                                            bytes, such as 10 MiB: is, over, under,
//	                                                at least, at most, between A and B
//	age                                             time since it was written, such as 30d: as size
//	changed                                         moments, such as 2026-11-20 or 7d ago: before,
//	                                                after, on a day, between A and B
//	sealed, current                                 alone: whether it is
//	replication                                     is pending, failed or completed
//	field NAME, tag NAME                            metadata and tags: as words, and as numbers
//	                                                where over, under, at least, at most or between
//	                                                are said; has field NAME, lacks field NAME
//
// A test of a field that an object does not have is false, its opposite by not true. An
// Expr is checked: what it says can be asked. String prints it so that Parse gives the same
// again. Holds answers for one object; catalog answers for many, by the same rules. A Scope
// says what rules and jobs are about.
//
// Errors have the code query, the position in bytes, and where they can a suggestion.
package query
