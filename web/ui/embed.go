// Package ui holds the built front end for embedding; its source lies beside.
package ui

import "embed"

// Dist is the built front end. `make ui` builds it.
//
//go:embed all:dist
var Dist embed.FS
