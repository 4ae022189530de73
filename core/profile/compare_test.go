package profile_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"welkin/core/profile"
	"welkin/core/schema"
)

func TestWhatDiffersBetweenTwoProfilesIsSaid(t *testing.T) {
	text := func(v string) *string { return &v }
	of := func(name string, t schema.Kind, rows, nulls, distinct int64, least, greatest string) profile.Profile {
		return profile.Profile{Name: name, Type: schema.Of(t), Rows: rows, Nulls: nulls, Distinct: distinct, Min: text(least), Max: text(greatest)}
	}
	before := []profile.Profile{of("id", schema.Int, 1000, 0, 1000, "1", "1000"), of("hut", schema.Text, 1000, 10, 48, "H01", "H48"), of("fee", schema.Float, 1000, 0, 3, "1", "3"), of("old", schema.Text, 1000, 0, 1, "a", "a")}
	after := []profile.Profile{of("id", schema.Int, 1200, 0, 1200, "1", "1200"), of("hut", schema.Text, 1200, 120, 49, "H01", "H49"), of("fee", schema.Text, 1200, 0, 3, "1", "3"), of("new", schema.Text, 1200, 0, 1, "a", "a")}
	var said []string
	for _, c := range profile.Compare(before, after) {
		said = append(said, fmt.Sprintf("%s %s", c.Column, c.Sentence))
	}
	assert.Equal(t, []string{" 1200 rows, where there were 1000", "id has about 1200 different values, had 1000", "id goes up to 1200, went up to 1000",
		"hut is null in 10.0 % of rows, was in 1.0 %", "fee is text, was float", "new is new", "old is gone"}, said)
	assert.Empty(t, profile.Compare(before, before))
}
