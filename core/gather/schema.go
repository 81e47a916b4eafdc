package gather

import _ "embed" // the schema

// Schema is the SQL by which PostgreSQL keeps the reports of many machines, and answers what [Together] tells.
//
//go:embed schema.sql
var Schema string
