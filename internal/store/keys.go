package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// hashKeyBytes is how long a key is that columns are hashed with: as long as the hash, which
// is what RFC 2104 asks for at least.
const hashKeyBytes = 32

func hashKeyAbout(name string) string { return "hash key " + name }

// HashKey gives a key that columns are hashed with.
func (s *Store) HashKey(ctx context.Context, name string) ([]byte, error) {
	var sealed []byte
	err := s.Pool.QueryRow(ctx, "SELECT sealed FROM hash_keys WHERE name = $1", name).Scan(&sealed)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, problem.Newf(problem.NotFound,
			"Apply the feed's file again, which makes it; or bring the one of before: noemata keys import "+
				problem.Word(name)+" --file FILE.",
			"There is no key %q to hash columns with.", name)
	}
	if err != nil {
		return nil, err
	}
	text, err := s.box.Open(sealed, hashKeyAbout(name), "the key "+name)
	if err != nil {
		return nil, err
	}
	return hex.DecodeString(text)
}

// MakeHashKey makes a key unless there is one of its name.
func (s *Store) MakeHashKey(ctx context.Context, name string) error {
	key := make([]byte, hashKeyBytes)
	_, _ = rand.Read(key) // never fails (crypto/rand)
	_, err := s.Pool.Exec(ctx, "INSERT INTO hash_keys (name, sealed) VALUES ($1, $2) ON CONFLICT DO NOTHING", name,
		s.box.Seal(hex.EncodeToString(key), hashKeyAbout(name)))
	return err
}

// TakeHashKey keeps a key that was made elsewhere. One that is there already stays.
func (s *Store) TakeHashKey(ctx context.Context, name string, key []byte) error {
	if len(key) != hashKeyBytes {
		return problem.Newf(problem.Invalid, "Give what noemata keys export has written.",
			"A key has %d bytes, as %d hexadecimal digits, and this one has %d.", hashKeyBytes, 2*hashKeyBytes,
			len(key))
	}
	_, err := s.Pool.Exec(ctx, "INSERT INTO hash_keys (name, sealed) VALUES ($1, $2)", name,
		s.box.Seal(hex.EncodeToString(key), hashKeyAbout(name)))
	if isUnique(err) {
		return problem.Newf(problem.Conflict, "Import it under another name, and name that in the feeds that need it.",
			"There is a key %q already, and what was hashed with it would match nothing any more.", name)
	}
	return err
}

// HashKeys lists the keys, without what they are.
func (s *Store) HashKeys(ctx context.Context) ([]records.HashKey, error) {
	found, err := s.Pool.Query(ctx, "SELECT name, made_at FROM hash_keys ORDER BY name")
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (k records.HashKey, err error) {
		return k, row.Scan(&k.Name, &k.MadeAt)
	})
	if list == nil {
		list = []records.HashKey{}
	}
	return list, err
}
