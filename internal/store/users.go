package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/bcrypt"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// leastPassword and mostPassword are how many bytes a password has; bcrypt looks at no more.
const leastPassword, mostPassword = 12, 72

// passwordCost is bcrypt's: about a quarter of a second.
const passwordCost = 12

func checkUser(n records.NewUser) error {
	switch {
	case !n.Role.May(records.Look):
		return problem.Newf(problem.Invalid, "Choose look, operate or administer.", "There is no role %q.", n.Role).In("role")
	case n.Role == records.Administer && n.Label != "":
		return problem.New(problem.Invalid, "Whoever administers does so for all feeds.",
			"Leave the label out, or choose the role operate.").In("label")
	case n.Password != "" && (len(n.Password) < leastPassword || len(n.Password) > mostPassword):
		return problem.Newf(problem.Invalid,
			"Choose another; several words that have nothing to do with each other are easy to keep.",
			"A password has %d to %d bytes.", leastPassword, mostPassword).In("password")
	}
	return checkAsks(n.Asks)
}

func hashed(password string) ([]byte, error) {
	if password == "" {
		return nil, nil
	}
	return bcrypt.GenerateFromPassword([]byte(password), passwordCost)
}

// AddUser makes a person who signs in by name and password.
func (s *Store) AddUser(ctx context.Context, n records.NewUser) (records.User, error) {
	if err := checkUser(n); err != nil {
		return records.User{}, err
	}
	if n.Password == "" {
		return records.User{}, problem.New(problem.Invalid, "A person signs in by a password.", "Give one.").In("password")
	}
	hash, err := hashed(n.Password)
	if err != nil {
		return records.User{}, err
	}
	verifier, err := s.verifierOf(ctx, n.Name, n.Password)
	if err != nil {
		return records.User{}, err
	}
	tag, err := s.Pool.Exec(ctx, `INSERT INTO users (name, role, label, asks, password, verifier)
VALUES ($1, $2, $3, coalesce($4, '{}'::text[]), $5, $6) ON CONFLICT (name) DO NOTHING`,
		plain(n.Name), n.Role, n.Label, n.Asks, hash, verifier)
	if err == nil && tag.RowsAffected() == 0 {
		err = problem.Newf(problem.Conflict, "Choose another name, or change this one.", "There is a person %q already.",
			n.Name).In("name")
	}
	if err != nil {
		return records.User{}, err
	}
	return s.user(ctx, n.Name)
}

// ChangeUser changes what a person may do and, where it is given, the password. Sign-ins with another password end.
func (s *Store) ChangeUser(ctx context.Context, n records.NewUser) (records.User, error) {
	if err := checkUser(n); err != nil {
		return records.User{}, err
	}
	before, err := s.user(ctx, n.Name)
	if err != nil {
		return before, err
	}
	if before.Elsewhere {
		return before, problem.Newf(problem.Conflict, "Change the groups there; the next sign-in takes them in.",
			"A provider signs %s in, and says the role.", n.Name)
	}
	hash, err := hashed(n.Password)
	if err != nil {
		return before, err
	}
	verifier, err := s.verifierOf(ctx, n.Name, n.Password)
	if err != nil {
		return before, err
	}
	err = pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE users SET role = $2, label = $3, asks = coalesce($4, '{}'::text[]),
  password = coalesce($5, password), verifier = coalesce($6, verifier) WHERE name = $1`,
			n.Name, n.Role, n.Label, n.Asks, hash, verifier); err != nil || hash == nil {
			return err
		}
		_, err := tx.Exec(ctx, "DELETE FROM sessions WHERE user_id = (SELECT id FROM users WHERE name = $1)", n.Name)
		return err
	})
	if err != nil {
		return before, err
	}
	return s.user(ctx, n.Name)
}

const userColumns = "name, role, label, asks, subject IS NOT NULL, created_at, last_used_at"

func (s *Store) user(ctx context.Context, name string) (records.User, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+userColumns+" FROM users WHERE name = $1", name)
	if err != nil {
		return records.User{}, err
	}
	u, err := pgx.CollectExactlyOneRow(found, pgx.RowToStructByPos[records.User])
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("person %q", name))
	}
	return u, err
}

// Users lists the people who sign in by name.
func (s *Store) Users(ctx context.Context) ([]records.User, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+userColumns+" FROM users ORDER BY name")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.User])
}

// RemoveUser removes a person, and ends the sign-ins.
func (s *Store) RemoveUser(ctx context.Context, name string) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM users WHERE name = $1", name)
	if err == nil && tag.RowsAffected() == 0 {
		err = notFound(fmt.Sprintf("person %q", name))
	}
	return err
}

// nobody is compared with where there is no such person, so that this takes as long. It is made when it is needed:
// most programs never need it, and it takes as long as a sign-in.
var nobody = sync.OnceValue(func() []byte {
	hash, _ := bcrypt.GenerateFromPassword([]byte(rand.Text()), passwordCost) // a text of 26 letters always has one
	return hash
})

// SignInBy signs a person in by name and password, and gives the cookie's value; ok is false where they do not
// belong together.
func (s *Store) SignInBy(ctx context.Context, name, password, address string) (cookie string, ok bool, err error) {
	var id int64
	var hash []byte
	var verified bool
	err = s.Pool.QueryRow(ctx, `SELECT id, password, verifier IS NOT NULL FROM users WHERE name = $1
  AND password IS NOT NULL`, name).Scan(&id, &hash, &verified)
	if errors.Is(err, pgx.ErrNoRows) {
		id, hash, err = 0, nobody(), nil
	}
	if err != nil || bcrypt.CompareHashAndPassword(hash, []byte(password)) != nil || id == 0 {
		return "", false, err
	}
	if !verified {
		if err := s.learnPassword(ctx, id, name, password); err != nil {
			return "", false, err
		}
	}
	cookie, err = s.addUserSession(ctx, id, address)
	return cookie, err == nil, err
}

// SignInElsewhere signs in a person whom a provider has named, with the role that it gives.
func (s *Store) SignInElsewhere(ctx context.Context, subject string, n records.NewUser, address string) (cookie string,
	err error) {
	if err := checkUser(n); err != nil {
		return "", err
	}
	var id int64
	err = s.Pool.QueryRow(ctx, `INSERT INTO users (name, role, label, subject) VALUES ($1, $2, $3, $4)
ON CONFLICT (subject) DO UPDATE SET name = excluded.name, role = excluded.role, label = excluded.label RETURNING id`,
		plain(n.Name), n.Role, n.Label, subject).Scan(&id)
	if isUnique(err) {
		return "", problem.Newf(problem.Conflict,
			"Have an administrator remove it: noemata users remove "+problem.Word(n.Name),
			"Another person is called %q here.", n.Name)
	}
	if err != nil {
		return "", err
	}
	return s.addUserSession(ctx, id, address)
}

func (s *Store) addUserSession(ctx context.Context, user int64, address string) (string, error) {
	cookie := rand.Text() + rand.Text()
	_, err := s.Pool.Exec(ctx, `WITH used AS (UPDATE users SET last_used_at = now() WHERE id = $2)
INSERT INTO sessions (hash, user_id, expires_at, address)
  VALUES ($1, $2, now() + $3, $4)`, digest(cookie), user, SessionLength, address)
	return cookie, err
}

// HasPasswords tells whether somebody signs in by name and password.
func (s *Store) HasPasswords(ctx context.Context) (some bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM users WHERE password IS NOT NULL)").Scan(&some)
	return some, err
}

// Seal makes a text unreadable and unchangeable for whoever carries it.
func (s *Store) Seal(text, about string) []byte { return s.box.Seal(text, about) }

// Unseal is what Seal was given.
func (s *Store) Unseal(sealed []byte, about string) (string, error) {
	return s.box.Open(sealed, about, about)
}
