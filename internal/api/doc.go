// Package api has what goes over the desk: what its calls tell and take, as types that the desk and those who call it
// share. A type says how its fields are called in JSON, what they mean and what they may be; the document of the desk is
// made of that. Nothing here does anything: core decides, the desk answers.
package api
