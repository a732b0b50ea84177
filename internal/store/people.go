package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

const tokenColumns = "t.id, t.name, t.role, t.label, t.asks, t.created_at, t.expires_at, t.last_used_at"

func tokenInto(t *records.Token, more ...any) []any {
	return append([]any{&t.ID, &t.Name, &t.Role, &t.Label, &t.Asks, &t.CreatedAt, &t.ExpiresAt, &t.LastUsedAt}, more...)
}

// AddToken makes a token; its secret can be read only from what this returns.
func (s *Store) AddToken(ctx context.Context, n records.NewToken) (records.Token, error) {
	t := records.Token{Name: n.Name, Role: n.Role, Label: n.Label, Asks: n.Asks, ExpiresAt: n.ExpiresAt,
		Secret: "noe_" + rand.Text() + rand.Text()}
	switch {
	case !n.Role.May(records.Look):
		return t, problem.Newf(problem.Invalid, "Choose look, operate or administer.", "There is no role %q.",
			n.Role).In("role")
	case n.Role == records.Administer && n.Label != "":
		return t, problem.New(problem.Invalid, "Whoever administers does so for all feeds.",
			"Leave the label out, or choose the role operate.").In("label")
	case n.ExpiresAt != nil && n.ExpiresAt.Before(time.Now()):
		return t, problem.New(problem.Invalid, "The token would have expired already.",
			"Give a moment to come, such as 2027-01-01T00:00:00Z.").In("expires_at")
	}
	if err := checkAsks(n.Asks); err != nil {
		return t, err
	}
	verifier, err := s.verifierOf(ctx, n.Name, t.Secret)
	if err != nil {
		return t, err
	}
	err = s.Pool.QueryRow(ctx, `INSERT INTO tokens (name, hash, role, label, asks, expires_at, verifier)
VALUES ($1, $2, $3, $4, coalesce($5, '{}'::text[]), $6, $7) RETURNING id, created_at`, n.Name, digest(t.Secret), n.Role,
		n.Label, n.Asks,
		n.ExpiresAt, verifier).Scan(&t.ID, &t.CreatedAt)
	return t, err
}

// digest makes tokens and cookies unreadable in the records. They are long and
// random, so one round of SHA-256 is enough; and finding a row by its digest tells
// nothing about the secret by the time it takes.
func digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Tokens lists the tokens, without their secrets.
func (s *Store) Tokens(ctx context.Context) ([]records.Token, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+tokenColumns+" FROM tokens t ORDER BY id")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, func(row pgx.CollectableRow) (records.Token, error) {
		var t records.Token
		err := row.Scan(tokenInto(&t)...)
		return t, err
	})
}

// RemoveToken ends a token and its sessions; one that administers stays.
func (s *Store) RemoveToken(ctx context.Context, id int64) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		// One removal waits for another, so that they count the same tokens.
		if _, err := tx.Exec(ctx, "LOCK TABLE tokens IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `DELETE FROM tokens WHERE id = $1 AND EXISTS (SELECT 1 FROM tokens
WHERE id <> $1 AND role = 'administer' AND expires_at IS NULL)`, id)
		if err == nil && tag.RowsAffected() == 0 {
			return problem.Newf(problem.Conflict,
				"Check the list; the last token that administers and does not expire cannot be removed, so make another one first.",
				"Token %d was not removed.", id)
		}
		return err
	})
}

// TokenOf finds the token that a secret belongs to. The digest is compared in
// constant time.
func (s *Store) TokenOf(ctx context.Context, secret string) (records.Token, bool) {
	var t records.Token
	var stored []byte
	var verified bool
	wanted := digest(secret)
	err := s.Pool.QueryRow(ctx, "SELECT "+tokenColumns+`, t.hash, t.verifier IS NOT NULL FROM tokens t
WHERE t.hash = $1 AND (t.expires_at IS NULL OR t.expires_at > now())`, wanted).
		Scan(tokenInto(&t, &stored, &verified)...)
	if err != nil || subtle.ConstantTimeCompare(stored, wanted) != 1 {
		return records.Token{}, false
	}
	if !verified {
		err = s.learn(ctx, t, secret)
	}
	if t.LastUsedAt == nil || time.Since(*t.LastUsedAt) > time.Minute {
		_, err = s.Pool.Exec(ctx, "UPDATE tokens SET last_used_at = now() WHERE id = $1", t.ID)
	}
	return t, err == nil
}

// SessionLength is how long a sign-in of the console lasts.
const SessionLength = 12 * time.Hour

// AddSession signs a token in and gives the cookie's value.
func (s *Store) AddSession(ctx context.Context, token int64, address string) (string, error) {
	cookie := rand.Text() + rand.Text()
	_, err := s.Pool.Exec(ctx, "INSERT INTO sessions (hash, token_id, expires_at, address) VALUES ($1, $2, now() + "+
		"$3, $4)",
		digest(cookie), token, SessionLength, address)
	return cookie, err
}

// SessionOf finds the token that a cookie stands for; of a person, one of that name and with that role.
func (s *Store) SessionOf(ctx context.Context, cookie string) (records.Token, bool) {
	var t records.Token
	err := s.Pool.QueryRow(ctx, "SELECT "+tokenColumns+` FROM sessions s JOIN (
    SELECT id AS token_id, NULL::bigint AS user_id, id, name, role, label, asks, created_at, expires_at, last_used_at
    FROM tokens
    UNION ALL SELECT NULL, id, 0, name, role, label, asks, created_at, NULL, last_used_at FROM users) t
  ON t.token_id = s.token_id OR t.user_id = s.user_id
WHERE s.hash = $1 AND s.expires_at > now() AND (t.expires_at IS NULL OR t.expires_at > now())`, digest(cookie)).
		Scan(tokenInto(&t)...)
	return t, err == nil
}

// RemoveSession signs out.
func (s *Store) RemoveSession(ctx context.Context, cookie string) error {
	_, err := s.Pool.Exec(ctx, "DELETE FROM sessions WHERE hash = $1 OR expires_at < now()", digest(cookie))
	return err
}

// Sessions lists the sign-ins of the console that go on.
func (s *Store) Sessions(ctx context.Context) ([]records.Session, error) {
	found, err := s.Pool.Query(ctx, `SELECT s.id, coalesce(t.name, u.name), s.address, s.created_at, s.expires_at
  FROM sessions s
LEFT JOIN tokens t ON t.id = s.token_id LEFT JOIN users u ON u.id = s.user_id WHERE s.expires_at > now() ORDER BY s.id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.Session])
}

// EndSession ends a sign-in of the console.
func (s *Store) EndSession(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM sessions WHERE id = $1", id)
	if err == nil && tag.RowsAffected() == 0 {
		return notFound(fmt.Sprintf("session %d", id))
	}
	return err
}

// NoteChange adds to the record of changes.
func (s *Store) NoteChange(ctx context.Context, c records.ChangeMade, token int64) error {
	raw := func(b []byte) any {
		if len(b) == 0 {
			return nil
		}
		return zeros.Replace(string(b))
	}
	_, err := s.Pool.Exec(ctx, `INSERT INTO changes
  (token_id, by_name, address, operation, about, status, asked, before, after)
VALUES (nullif($1, 0), $2, $3, $4, $5, $6, $7, $8, $9)`,
		token, plain(c.By), c.Address, c.Operation, plain(c.About), c.Status, raw(c.Asked), raw(c.Before), raw(c.After))
	return err
}

// ChangeFilter says which changes are listed; what is empty leaves none out.
type ChangeFilter struct {
	By, About string
	Before    int64 // only those before this one
	Limit     int
}

// Changes lists what was changed, the newest first.
func (s *Store) Changes(ctx context.Context, f ChangeFilter) ([]records.ChangeMade, error) {
	found, err := s.Pool.Query(ctx, `SELECT id, at, by_name, address, operation, about, status, asked, before, after
  FROM changes
WHERE ($1 = '' OR by_name = $1) AND ($2 = '' OR about = $2) AND ($3 = 0 OR id < $3) ORDER BY id DESC
  LIMIT $4`, f.By, f.About,
		f.Before, f.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.ChangeMade])
}
