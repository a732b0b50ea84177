package store

import (
	"context"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha256"
	"errors"
	"fmt"
	"path"
	"strings"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// checkAsks refuses patterns that match nothing.
func checkAsks(asks []string) error {
	for _, a := range asks {
		warehouse, schema, _ := strings.Cut(a, ".")
		_, err := path.Match(warehouse, "")
		_, err2 := path.Match(schema, "")
		if warehouse == "" || strings.HasSuffix(a, ".") || err != nil || err2 != nil {
			return problem.Newf(problem.Invalid,
				"Name a warehouse, as lake; or a schema of one, as lake.kept; with * for any letters.",
				"%q names nothing that can be asked.", a).In("asks")
		}
	}
	return nil
}

// AddQuestion notes that a question is being answered.
func (s *Store) AddQuestion(ctx context.Context, q records.Question) (id int64, err error) {
	err = s.Pool.QueryRow(ctx, `INSERT INTO questions (by_name, address, way, warehouse, sql, process)
VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`, plain(q.By), q.Address, q.Way, q.Warehouse,
		plain(q.SQL), q.Process).Scan(&id)
	return id, err
}

// EndQuestion notes what became of a question.
func (s *Store) EndQuestion(ctx context.Context, id int64, state string, rows int64, why string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE questions SET state = $2, rows = $3, problem = $4, ended_at = now()
WHERE id = $1 AND state = 'running'`, id, state, rows, plain(why))
	return err
}

// EndLeftQuestions ends those that other processes have left behind when they ended.
func (s *Store) EndLeftQuestions(ctx context.Context, process string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE questions
  SET state = 'failed', problem = 'The process that answered has ended.', ended_at = now()
WHERE state = 'running' AND process <> $1 AND process NOT IN (SELECT id FROM processes)`, process)
	return err
}

const questionColumns = `id, at, by_name, address, way, warehouse, sql, process, state, ended_at, rows, problem`

// Questions lists what was asked, the newest first.
func (s *Store) Questions(ctx context.Context, f records.QuestionFilter) ([]records.Question, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+questionColumns+` FROM questions WHERE ($1 = '' OR by_name = $1)
  AND ($2 = '' OR warehouse = $2) AND ($3 = '' OR state = $3) AND ($4 = 0 OR id < $4) ORDER BY id DESC LIMIT $5`,
		f.By, f.Warehouse, f.State, f.Before, f.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.Question])
}

// Question gives one.
func (s *Store) Question(ctx context.Context, id int64) (records.Question, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+questionColumns+" FROM questions WHERE id = $1", id)
	if err != nil {
		return records.Question{}, err
	}
	q, err := pgx.CollectExactlyOneRow(found, pgx.RowToStructByPos[records.Question])
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound("such question")
	}
	return q, err
}

// StopQuestion asks whoever answers a question to stop.
func (s *Store) StopQuestion(ctx context.Context, id int64, by string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE questions SET stop = $2 WHERE id = $1 AND state = 'running'", id, plain(by))
	return err
}

// ToStop gives the questions that a process answers and is to stop, with who has asked for it.
func (s *Store) ToStop(ctx context.Context, process string) (map[int64]string, error) {
	return s.toStop(ctx, "questions", process)
}

// toStop gives what of a table a process is at work on and is to stop, with who has asked for it.
func (s *Store) toStop(ctx context.Context, table, process string) (map[int64]string, error) {
	found, err := s.Pool.Query(ctx, "SELECT id, stop FROM "+table+" WHERE process = $1 AND state = 'running' AND stop <> ''",
		process)
	if err != nil {
		return nil, err
	}
	stop := map[int64]string{}
	var id int64
	var by string
	_, err = pgx.ForEachRow(found, []any{&id, &by}, func() error { stop[id] = by; return nil })
	return stop, err
}

// VerifierRounds is how often a secret is hashed for its verifier (RFC 7677 asks for 4096 at least).
const VerifierRounds = 20_000

// Verifier is what somebody who signs in by SCRAM-SHA-256 is known by (RFC 5802, 3).
type Verifier struct {
	Salt                 []byte
	StoredKey, ServerKey []byte
}

// salt is that of a name, whether anybody is called so or not.
func (s *Store) salt(ctx context.Context, name string) ([]byte, error) {
	var text string
	if err := s.Pool.QueryRow(ctx, "SELECT salt::text FROM key_check").Scan(&text); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(text + name))
	return sum[:16], nil
}

// verifierOf hashes a secret, for people and tokens of a name.
func (s *Store) verifierOf(ctx context.Context, name, secret string) ([]byte, error) {
	if secret == "" {
		return nil, nil
	}
	salt, err := s.salt(ctx, name)
	if err != nil {
		return nil, err
	}
	salted, err := pbkdf2.Key(sha256.New, secret, salt, VerifierRounds, sha256.Size)
	if err != nil {
		return nil, err
	}
	sign := func(text string) []byte {
		m := hmac.New(sha256.New, salted)
		m.Write([]byte(text))
		return m.Sum(nil)
	}
	stored := sha256.Sum256(sign("Client Key"))
	return append(stored[:], sign("Server Key")...), nil
}

// VerifierOf finds whom a name stands for, a person or the newest token of that name, and what that one is known by.
// Where there is nobody, the verifier has a salt alone.
func (s *Store) VerifierOf(ctx context.Context, name string) (records.Token, Verifier, error) {
	var t records.Token
	salt, err := s.salt(ctx, name)
	v := Verifier{Salt: salt}
	if err != nil {
		return t, v, err
	}
	var known []byte
	err = s.Pool.QueryRow(ctx, "SELECT "+tokenColumns+`, verifier FROM (
    SELECT id, name, role, label, asks, created_at, expires_at, last_used_at, verifier, 1 AS is FROM tokens
    UNION ALL SELECT 0, name, role, label, asks, created_at, NULL, last_used_at, verifier, 0 FROM users) t
WHERE t.name = $1 AND verifier IS NOT NULL AND (t.expires_at IS NULL OR t.expires_at > now())
ORDER BY "is", t.id DESC LIMIT 1`, name).Scan(tokenInto(&t, &known)...)
	if errors.Is(err, pgx.ErrNoRows) || err == nil && len(known) != 2*sha256.Size {
		return records.Token{}, v, nil
	}
	v.StoredKey, v.ServerKey = known[:min(sha256.Size, len(known))], known[min(sha256.Size, len(known)):]
	return t, v, err
}

// NoteUse notes that a person or token has signed in to ask.
func (s *Store) NoteUse(ctx context.Context, t records.Token) error {
	_, err := s.Pool.Exec(ctx, "UPDATE tokens SET last_used_at = now() WHERE id = $1", t.ID)
	if t.ID == 0 {
		_, err = s.Pool.Exec(ctx, "UPDATE users SET last_used_at = now() WHERE name = $1", t.Name)
	}
	return err
}

// Still gives a person or token as it is now; false where there is none any more.
func (s *Store) Still(ctx context.Context, t records.Token) (now records.Token, ok bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT "+tokenColumns+` FROM (SELECT id, name, role, label, asks, created_at, expires_at,
    last_used_at FROM tokens
  UNION ALL SELECT 0, name, role, label, asks, created_at, NULL, last_used_at FROM users) t
WHERE t.id = $1 AND t.name = $2 AND (t.expires_at IS NULL OR t.expires_at > now())`, t.ID, t.Name).Scan(tokenInto(&now)...)
	if errors.Is(err, pgx.ErrNoRows) {
		return now, false, nil
	}
	return now, err == nil, err
}

// learn keeps the verifier of a token that was made before there were any.
func (s *Store) learn(ctx context.Context, t records.Token, secret string) error {
	v, err := s.verifierOf(ctx, t.Name, secret)
	if err == nil {
		_, err = s.Pool.Exec(ctx, "UPDATE tokens SET verifier = $2 WHERE id = $1 AND verifier IS NULL", t.ID, v)
	}
	return err
}

// learnPassword keeps the verifier of a person who chose the password before there were any.
func (s *Store) learnPassword(ctx context.Context, id int64, name, password string) error {
	v, err := s.verifierOf(ctx, name, password)
	if err == nil {
		_, err = s.Pool.Exec(ctx, "UPDATE users SET verifier = $2 WHERE id = $1 AND verifier IS NULL", id, v)
	}
	return err
}

// SavedQuestions lists what people share, by name.
func (s *Store) SavedQuestions(ctx context.Context) ([]records.SavedQuestion, error) {
	found, err := s.Pool.Query(ctx, "SELECT name, warehouse, sql, by_name, at FROM saved_questions ORDER BY name")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.SavedQuestion])
}

// SaveQuestion shares a question, or changes one of one's own; whoever administers may change any.
func (s *Store) SaveQuestion(ctx context.Context, q records.SavedQuestion, any bool) error {
	tag, err := s.Pool.Exec(ctx, `INSERT INTO saved_questions AS s (name, warehouse, sql, by_name) VALUES ($1, $2, $3, $4)
ON CONFLICT (name) DO UPDATE SET warehouse = $2, sql = $3, at = now() WHERE s.by_name = $4 OR $5`, plain(q.Name), q.Warehouse,
		plain(q.SQL), plain(q.By), any)
	if err == nil && tag.RowsAffected() == 0 {
		err = problem.Newf(problem.Conflict, "Choose another name.", "Somebody else has saved a question as %q.", q.Name).
			In("name")
	}
	return err
}

// RemoveSavedQuestion removes one of one's own, or any for whoever administers.
func (s *Store) RemoveSavedQuestion(ctx context.Context, name, by string, any bool) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM saved_questions WHERE name = $1 AND (by_name = $2 OR $3)", name, by, any)
	if err == nil && tag.RowsAffected() == 0 {
		err = notFound(fmt.Sprintf("question of yours that is saved as %q", name))
	}
	return err
}
