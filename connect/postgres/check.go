package postgres

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	"welkin/connect"
)

// Check implements connect.Connection.
func (d *Database) Check(ctx context.Context) []connect.CheckLine {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	whats := []string{"name resolves", "port answers", "sign-in", "may read", "may write", "clock", "round trip"}
	lines := make([]connect.CheckLine, len(whats))
	for i, w := range whats {
		lines[i] = connect.CheckLine{What: w, State: connect.NotTried}
	}
	set := func(i int, ok bool, found, remedy, setting string) bool {
		lines[i].Found, lines[i].State = found, connect.Good
		if !ok {
			lines[i].State, lines[i].Remedy, lines[i].Setting = connect.Bad, remedy, setting
		}
		return ok
	}
	addrs, err := net.DefaultResolver.LookupHost(ctx, d.settings.Host)
	if err != nil {
		set(0, false, fmt.Sprintf("%q is not known to the resolver", d.settings.Host), "Correct the host, or ask whoever runs your network's names.", "host")
		return lines
	}
	set(0, true, addrs[0], "", "")
	place := net.JoinHostPort(d.settings.Host, strconv.Itoa(d.settings.port()))
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", place)
	if err != nil {
		set(1, false, "nothing answers at "+place, "Check that the database runs and listens there, the port, and the firewall between.", "port")
		return lines
	}
	_ = conn.Close()
	set(1, true, place, "", "")
	var version, user string
	var tls bool
	err = d.pool.QueryRow(ctx, `SELECT current_setting('server_version'), current_user, COALESCE((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false)`).Scan(&version, &user, &tls)
	if err != nil {
		set(2, false, d.explain(err).Error(), "Correct user, password or database.", "password")
		return lines
	}
	way := "not encrypted"
	if tls {
		way = "encrypted"
	}
	set(2, true, fmt.Sprintf("as %s, PostgreSQL %s, %s", user, version, way), "", "")
	var readable, writable int64
	err = d.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE has_table_privilege(c.oid, 'SELECT')), count(*) FILTER (WHERE has_table_privilege(c.oid, 'INSERT'))
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r','p','v','m') AND n.nspname NOT IN ('pg_catalog','information_schema') AND has_schema_privilege(n.oid, 'USAGE')`).Scan(&readable, &writable)
	if err != nil {
		set(3, false, d.explain(err).Error(), "Give the user rights on the tables.", "user")
		return lines
	}
	set(3, true, fmt.Sprintf("%d tables", readable), "", "")
	var create bool
	_ = d.pool.QueryRow(ctx, `SELECT has_database_privilege(current_database(), 'CREATE') OR has_schema_privilege('public', 'CREATE')`).Scan(&create)
	switch {
	case create:
		set(4, true, fmt.Sprintf("%d tables, and new ones may be made", writable), "", "")
	case writable > 0:
		set(4, true, fmt.Sprintf("%d tables; new ones may not be made", writable), "", "")
	default:
		lines[4] = connect.CheckLine{What: whats[4], State: connect.Note, Found: "no; that is right for a source"}
	}
	var there time.Time
	began := time.Now()
	if err := d.pool.QueryRow(ctx, `SELECT clock_timestamp()`).Scan(&there); err == nil {
		took := time.Since(began)
		skew := there.Sub(began.Add(took / 2)).Abs().Round(time.Millisecond)
		set(5, skew < 5*time.Second, fmt.Sprintf("%s apart", skew), "Set both clocks by the same time service: reads of changed rows lean on them.", "")
		set(6, took < 500*time.Millisecond, took.Round(10*time.Microsecond).String(), "The way there is slow; a worker nearer to the database would help.", "")
	}
	return lines
}
