// Package harness gives tests a real service with a real PostgreSQL.
//
// Each test process has a private cluster, made when the first test asks and
// removed by Main; each test gets a database of its own, copied from a template
// that has the schema, and a service on free loopback ports. Packages may be
// tested side by side.
package harness
