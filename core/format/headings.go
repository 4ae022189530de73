package format

import (
	"fmt"
	"strings"
)

// ColumnNames gives the names of n columns from the lines of a header, each name
// once: an empty heading in a line above the last takes the one at its left, as
// where a spreadsheet's cells were merged; what stands above each other is put
// together with a blank between; a column without any is called by its place.
func ColumnNames(lines [][]string, n int) []string {
	names := make([]string, n)
	for at, line := range lines {
		last := ""
		for i := range n {
			heading := ""
			if i < len(line) {
				heading = strings.TrimSpace(line[i])
			}
			if heading == "" && at < len(lines)-1 {
				heading = last
			}
			last = heading
			names[i] = strings.TrimSpace(names[i] + " " + heading)
		}
	}
	used := map[string]int{}
	for i, name := range names {
		if name == "" {
			name = fmt.Sprintf("column_%d", i+1)
		}
		if used[name]++; used[name] > 1 {
			name = fmt.Sprintf("%s_%d", name, used[name])
		}
		names[i] = name
	}
	return names
}
