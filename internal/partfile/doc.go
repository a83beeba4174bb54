// Package partfile keeps files that are written beside their place, before they get their name: who
// writes one holds it, and what a killed program left is swept away by the next that writes into the
// same folder.
package partfile
