// Package sources holds the descriptions that ship with Soba.
package sources

import "embed"

// Files are the descriptions of sources, and the exchanges.
//
//go:embed *.yaml
var Files embed.FS

// Exchanges is the file of exchanges and their calendars.
//
//go:embed exchanges.yaml
var Exchanges []byte
