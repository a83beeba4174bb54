package service

import "spindle/internal/desk"

// OpenAPI gives the document of the desk's calls, as YAML.
func OpenAPI() ([]byte, error) { return desk.Document() }

// CharterSchema gives what a charter may declare, as a JSON Schema.
func CharterSchema() ([]byte, error) { return desk.CharterSchema() }
