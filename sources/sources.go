// Package sources holds what ships with Soba to describe the world: exchanges
// and their calendars.
package sources

import _ "embed"

// Exchanges is the shipped exchange file, in YAML.
//
//go:embed exchanges.yaml
var Exchanges []byte
