package store

import (
	"context"
	"errors"
	"time"
)

// Person is somebody who may sign in.
type Person struct {
	ID           int64     `db:"id" json:"id"`
	Login        string    `db:"login" json:"login"`
	Name         string    `db:"name" json:"name"`
	Role         string    `db:"role" json:"role" enum:"reader,operator,builder,admin"`
	Disabled     bool      `db:"disabled" json:"disabled"`
	CreatedAt    time.Time `db:"created_at" json:"created_at"`
	PasswordHash string    `db:"password_hash" json:"-"`
}

const personColumns = `id, login, name, role, disabled, created_at, password_hash`

// People lists everybody.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	return many[Person](s.Pool.Query(ctx, `SELECT `+personColumns+` FROM people ORDER BY name`))
}

// PersonByLogin finds somebody by sign-in name.
func (s *Store) PersonByLogin(ctx context.Context, login string) (Person, error) {
	return one[Person](s.Pool.Query(ctx, `SELECT `+personColumns+` FROM people WHERE login = lower($1)`, login))
}

// Person finds somebody.
func (s *Store) Person(ctx context.Context, id int64) (Person, error) {
	return one[Person](s.Pool.Query(ctx, `SELECT `+personColumns+` FROM people WHERE id = $1`, id))
}

// AddPerson adds somebody; a login that is taken is a ErrConflict.
func (s *Store) AddPerson(ctx context.Context, p Person) (Person, error) {
	out, err := one[Person](s.Pool.Query(ctx, `INSERT INTO people (login, name, role, password_hash) VALUES (lower($1), $2, $3, $4)
		ON CONFLICT DO NOTHING RETURNING `+personColumns, p.Login, p.Name, p.Role, p.PasswordHash))
	if errors.Is(err, ErrNotFound) {
		return out, ErrConflict
	}
	return out, err
}

// ChangePerson changes role and whether somebody may sign in; an empty hash
// leaves the password as it is.
func (s *Store) ChangePerson(ctx context.Context, p Person) error {
	tag, err := s.Pool.Exec(ctx, `UPDATE people SET name = $2, role = $3, disabled = $4, password_hash = COALESCE(NULLIF($5, ''), password_hash) WHERE id = $1`,
		p.ID, p.Name, p.Role, p.Disabled, p.PasswordHash)
	return changed(tag.RowsAffected(), err, ErrNotFound)
}
