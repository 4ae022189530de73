// Package kinds lists the kinds of connection that Welkin has.
package kinds

import (
	"slices"

	"welkin/connect"
	"welkin/connect/folder"
	"welkin/connect/httpapi"
	"welkin/connect/mysql"
	"welkin/connect/postgres"
	"welkin/connect/s3"
	"welkin/connect/sftp"
	"welkin/connect/sqlite"
	"welkin/connect/webhook"
)

// All lists the kinds in the order in which they are offered.
func All() []connect.Kind {
	return []connect.Kind{folder.Kind, postgres.Kind, mysql.Kind, sqlite.Kind, s3.Kind, sftp.Kind, httpapi.Kind, webhook.Kind}
}

// Find gives the kind of a name.
func Find(name string) (connect.Kind, bool) {
	all := All()
	i := slices.IndexFunc(all, func(k connect.Kind) bool { return k.Name == name })
	if i < 0 {
		return connect.Kind{}, false
	}
	return all[i], true
}
