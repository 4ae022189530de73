// Package core_test keeps the rooms apart.
package core_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// order lists the rooms from the ground up: each may use those before it.
var order = []string{"core/schema", "core/batch", "core/match", "core/personal", "core/profile", "core/expr", "core/spill", "core/format", "core/format/csv", "core/format/fixed", "core/format/jsonl", "core/format/jsondoc", "core/format/xml", "core/format/avro", "core/format/excel", "core/format/parquet", "core/format/archive", "core/format/form", "core/calendar", "core/paging", "core/sheet", "core/step", "core/offer", "core/engine",
	"connect", "connect/way", "connect/filestore", "connect/sqltables", "connect/folder", "connect/s3", "connect/sftp", "connect/httpapi", "connect/webhook", "connect/sqlite", "connect/mysql", "connect/postgres", "connect/kinds", "store", "work", "work/statefolder", "web/ui", "web/api", "localpg", "localmaria", "standin/faults", "standin/objectstore", "standin/sftpserver", "standin/councilapi", "demo", "cmd/welkin"}

func TestRoomsUseOnlyRoomsBelowThem(t *testing.T) {
	place := map[string]int{}
	for i, r := range order {
		place["welkin/"+r] = i
	}
	for i, room := range order {
		out, err := exec.Command("go", "list", "-deps", "welkin/"+room).Output()
		require.NoError(t, err, room)
		for _, dep := range strings.Fields(string(out)) {
			if !strings.HasPrefix(dep, "welkin/") {
				continue
			}
			at, known := place[dep]
			require.True(t, known, "%s is not in the list of rooms", dep)
			require.LessOrEqual(t, at, i, "%s uses %s", room, dep)
		}
	}
}

// TestTheCoreSpeaksToNobody looks at what the core's own files import: libraries
// for files bring network code along that is never called.
func TestTheCoreSpeaksToNobody(t *testing.T) {
	for _, room := range order {
		if !strings.HasPrefix(room, "core/") {
			continue
		}
		out, err := exec.Command("go", "list", "-f", "{{join .Imports \" \"}}", "welkin/"+room).Output()
		require.NoError(t, err, room)
		for _, dep := range strings.Fields(string(out)) {
			require.NotContains(t, []string{"net", "net/http", "database/sql", "os/exec", "github.com/jackc/pgx/v5", "github.com/go-chi/chi/v5"}, dep, room)
		}
	}
}
