// Package sources holds the descriptions that ship with Soba.
package sources

import "embed"

// Files are the descriptions of sources, and the exchanges with their calendars.
//
//go:embed *.yaml *.ics
var Files embed.FS
