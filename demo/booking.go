package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

const bookingTables = `
DROP TABLE IF EXISTS payments, stays, reservations, warden_shifts, tariffs, guests, huts;
CREATE TABLE huts (hut_id int PRIMARY KEY, code text NOT NULL UNIQUE, name text NOT NULL, district text NOT NULL, class char(1) NOT NULL,
	beds int NOT NULL, warden boolean NOT NULL, altitude_m int NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE guests (guest_id int PRIMARY KEY, name text NOT NULL, email text, phone text, bank_account text, home_town text, kind text NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE tariffs (class char(1), kind text, valid_from date, valid_to date, price numeric(8,2) NOT NULL, PRIMARY KEY (class, kind, valid_from));
CREATE TABLE reservations (reservation_id int PRIMARY KEY, guest_id int NOT NULL REFERENCES guests, hut_id int NOT NULL REFERENCES huts, made_at timestamptz NOT NULL,
	arrival date NOT NULL, nights int NOT NULL, cancelled boolean NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE stays (stay_id int PRIMARY KEY, reservation_id int REFERENCES reservations, guest_id int NOT NULL REFERENCES guests, hut_id int NOT NULL REFERENCES huts,
	arrived date NOT NULL, nights int NOT NULL, guests int NOT NULL, price numeric(8,2) NOT NULL, updated_at timestamptz NOT NULL);
CREATE TABLE payments (payment_id int PRIMARY KEY, stay_id int NOT NULL REFERENCES stays, paid_at timestamptz NOT NULL, amount numeric(10,2) NOT NULL, way text NOT NULL);
CREATE TABLE warden_shifts (hut_id int REFERENCES huts, day date, warden text NOT NULL, PRIMARY KEY (hut_id, day));
COMMENT ON TABLE stays IS 'Nights spent, as counted by the huts';
COMMENT ON COLUMN stays.price IS 'a night and guest';`

var (
	givenNames  = []string{"Maren", "Ivo", "Tessel", "Orla", "Bram", "Sunniva", "Edda", "Jory", "Linde", "Corvin", "Yrsa", "Matis"}
	familyNames = []string{"Ostrander", "Fellweather", "Quill", "Harrowgate", "Dunmoor", "Salter", "Brightwell", "Thornley", "Umberly", "Vask"}
	towns       = []string{"Hollarby", "Saint Ambrin", "Quenstead-Vale", "Ormskell", "Dunvaro", "Marfield", "Marford", "The Costes", "Nax", "Ellerwick"}
	guestKinds  = []string{"member", "adult", "youth", "child"}
)

// Booking fills the booking database, replacing what is there.
func (g *Generator) Booking(ctx context.Context, address string) error {
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(ctx) }()
	if _, err := tx.Exec(ctx, bookingTables); err != nil {
		return err
	}
	for _, fill := range []func(context.Context, pgx.Tx) error{g.fillHuts, g.fillGuests, g.fillTariffs, g.fillStays, g.fillShifts} {
		if err := fill(ctx, tx); err != nil {
			return err
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, `ANALYZE`)
	return err
}

// copyRows fills a table with n rows made one by one.
func copyRows(ctx context.Context, tx pgx.Tx, table string, columns string, n int, row func(i int) []any) error {
	_, err := tx.CopyFrom(ctx, pgx.Identifier{table}, strings.Split(columns, " "), pgx.CopyFromSlice(n, func(i int) ([]any, error) { return row(i), nil }))
	if err != nil {
		return fmt.Errorf("table %s: %w", table, err)
	}
	return nil
}

func (g *Generator) fillHuts(ctx context.Context, tx pgx.Tx) error {
	return copyRows(ctx, tx, "huts", "hut_id code name district class beds warden altitude_m updated_at", len(g.huts), func(i int) []any {
		h := g.huts[i]
		return []any{h.id, h.code, h.name, h.district, h.class, h.beds, h.warden, h.altitude, g.Today.AddDate(-2, 0, i)}
	})
}

func (g *Generator) guestCount() int { return max(20, int(48_912*g.Scale)) }
func (g *Generator) stayCount() int  { return max(50, int(200_000*g.Scale)) }

func (g *Generator) fillGuests(ctx context.Context, tx pgx.Tx) error {
	r := g.random("guests")
	return copyRows(ctx, tx, "guests", "guest_id name email phone bank_account home_town kind updated_at", g.guestCount(), func(i int) []any {
		name := pick(r, givenNames) + " " + pick(r, familyNames)
		var phone, account any
		if r.IntN(3) > 0 {
			phone = fmt.Sprintf("0%d %06d", 300+r.IntN(600), r.IntN(1_000_000))
		}
		if r.IntN(4) > 0 {
			account = fmt.Sprintf("XL%02d LARK %04d %04d %04d", r.IntN(90)+10, r.IntN(10_000), r.IntN(10_000), r.IntN(10_000))
		}
		return []any{i + 1, name, fmt.Sprintf("%s%d@post.example", strings.ToLower(strings.ReplaceAll(name, " ", ".")), i), phone, account,
			typo(r, pick(r, towns)), pick(r, guestKinds), g.Today.AddDate(0, 0, -r.IntN(700)).Add(time.Duration(r.IntN(86_400)) * time.Second)}
	})
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

// typo spoils one town in eight, as people type.
func typo(r *rand.Rand, s string) string {
	switch r.IntN(24) {
	case 0:
		return strings.ToUpper(s)
	case 1:
		i := 1 + r.IntN(len(s)-1)
		return s[:i] + s[i-1:]
	case 2:
		return "near " + s
	}
	return s
}

func (g *Generator) price(class, kind string, year int) float64 {
	base := map[string]float64{"A": 38, "B": 29, "C": 19}[class]
	share := map[string]float64{"member": 0.6, "adult": 1, "youth": 0.5, "child": 0.25}[kind]
	return float64(int((base+float64(year-2024))*share*10)) / 10
}

func (g *Generator) fillTariffs(ctx context.Context, tx pgx.Tx) error {
	var rows [][]any
	for year := g.Today.Year() - 2; year <= g.Today.Year(); year++ {
		for _, class := range classes {
			for _, kind := range guestKinds {
				rows = append(rows, []any{class, kind, time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(year, 12, 31, 0, 0, 0, 0, time.UTC), g.price(class, kind, year)})
			}
		}
	}
	return copyRows(ctx, tx, "tariffs", "class kind valid_from valid_to price", len(rows), func(i int) []any { return rows[i] })
}

func (g *Generator) fillStays(ctx context.Context, tx pgx.Tx) error {
	r := g.random("stays")
	n, guests := g.stayCount(), g.guestCount()
	type stay struct {
		hut, guest, nights, party int
		arrived                   time.Time
		price                     float64
	}
	stays := make([]stay, n)
	for i := range stays {
		h := g.huts[r.IntN(len(g.huts))]
		arrived := g.Today.AddDate(0, 0, -1-r.IntN(730))
		stays[i] = stay{h.id, 1 + r.IntN(guests), 1 + r.IntN(4), 1 + r.IntN(5), arrived, g.price(h.class, pick(r, guestKinds), arrived.Year())}
	}
	if err := copyRows(ctx, tx, "reservations", "reservation_id guest_id hut_id made_at arrival nights cancelled updated_at", n, func(i int) []any {
		s := stays[i]
		made := s.arrived.AddDate(0, 0, -1-r.IntN(90))
		return []any{i + 1, s.guest, s.hut, made, s.arrived, s.nights, false, made}
	}); err != nil {
		return err
	}
	if err := copyRows(ctx, tx, "stays", "stay_id reservation_id guest_id hut_id arrived nights guests price updated_at", n, func(i int) []any {
		s := stays[i]
		return []any{i + 1, i + 1, s.guest, s.hut, s.arrived, s.nights, s.party, s.price, s.arrived.Add(18 * time.Hour)}
	}); err != nil {
		return err
	}
	return copyRows(ctx, tx, "payments", "payment_id stay_id paid_at amount way", n, func(i int) []any {
		s := stays[i]
		return []any{i + 1, i + 1, s.arrived.AddDate(0, 0, s.nights), s.price * float64(s.nights*s.party), pick(r, []string{"card", "cash", "transfer"})}
	})
}

func (g *Generator) fillShifts(ctx context.Context, tx pgx.Tx) error {
	r := g.random("shifts")
	var rows [][]any
	for _, h := range g.huts {
		for d := range 60 {
			if h.warden {
				rows = append(rows, []any{h.id, g.Today.AddDate(0, 0, -d), pick(r, givenNames)})
			}
		}
	}
	return copyRows(ctx, tx, "warden_shifts", "hut_id day warden", len(rows), func(i int) []any { return rows[i] })
}
