// Package charterfile reads the files of a charter: YAML without anchors and tags, in any
// number of files, with variables. What is wrong is told all at once, each with file, line
// and column.
//
// Files are put together by section and name; a thing is declared once. A text may have
// ${NAME} of the section variables, or of what the caller sets; a text that is nothing but
// one takes its value as it is.
package charterfile
