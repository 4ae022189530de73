package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatIsFoundByItselfIsMostlyRight holds the findings to 95 % for a seed that is
// fixed here; make bench prints them for a new one each time.
func TestWhatIsFoundByItselfIsMostlyRight(t *testing.T) {
	var out strings.Builder
	worst := finding(&out, 48, 100)
	assert.GreaterOrEqual(t, worst, 0.95, out.String())
	t.Log(out.String())
}
