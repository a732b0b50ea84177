package store

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// Catalogue gives the way to the database that has the catalogue of a lake which names none of its own, and makes it
// where it is not there: it is beside the records, in the same server. Without a name it is that of the records.
func (s *Store) Catalogue(ctx context.Context, lake string) (connection.Settings, error) {
	own := s.Pool.Config().ConnConfig
	at := connection.Settings{Host: own.Host, Port: int(own.Port), User: own.User, Password: own.Password,
		Database: own.Database}
	if !at.Local() {
		return at, problem.New(problem.Invalid, "The service's own records are on another machine.",
			"Name a database for the lake's catalogue: its host, database and user.").In("database")
	}
	var may bool
	if err := s.Pool.QueryRow(ctx, "SELECT rolcreatedb OR rolsuper FROM pg_roles WHERE rolname = current_user").Scan(&may); err != nil {
		return at, err
	}
	if lake == "" {
		if !may {
			return at, noCatalogue(at.User)
		}
		return at, nil
	}
	at.Database = "noemata_lake_" + strings.ReplaceAll(lake, "-", "_")
	const there = "SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)"
	var has bool
	if err := s.Pool.QueryRow(ctx, there, at.Database).Scan(&has); err != nil || has {
		return at, err
	}
	if !may {
		return at, noCatalogue(at.User)
	}
	_, err := s.Pool.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{at.Database}.Sanitize())
	if err != nil { // another process may have made it
		if again := s.Pool.QueryRow(ctx, there, at.Database).Scan(&has); again == nil && has {
			return at, nil
		}
		return at, fmt.Errorf("make the database for the catalogue: %w", err)
	}
	return at, nil
}

func noCatalogue(user string) error {
	return problem.Newf(problem.NoPrivilege,
		fmt.Sprintf("ALTER ROLE %s CREATEDB; or name a database for the lake's catalogue.", pgx.Identifier{user}.Sanitize()),
		"The user %s of the service's records may not make a database for the lake's catalogue.", user).In("database")
}
