package problem_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/problem"
)

func TestStatementsOfARemedy(t *testing.T) {
	for remedy, want := range map[string]struct {
		list []string
		then string
	}{
		"ALTER SYSTEM SET wal_level = logical; then restart the server.": {[]string{"ALTER SYSTEM SET wal_level = logical"},
			"then restart the server."},
		`CREATE SCHEMA "a;b"; GRANT USAGE ON SCHEMA "a;b" TO "c""d;";`: {[]string{`CREATE SCHEMA "a;b"`,
			`GRANT USAGE ON SCHEMA "a;b" TO "c""d;"`}, ""},
		"GRANT SELECT ON `x;``y`.* TO 'reader'@'%';": {[]string{"GRANT SELECT ON `x;``y`.* TO 'reader'@'%'"},
			""},
		"GRANT SELECT ON *.* TO 'reader'@'…';":         {nil, "GRANT SELECT ON *.* TO 'reader'@'…';"},
		`GRANT SELECT ON *.* TO 'a\'; DROP TABLE x; '`: {nil, `GRANT SELECT ON *.* TO 'a\'; DROP TABLE x; '`},
		"Start the feed once. GRANT CREATE ON DATABASE x TO y;": {nil,
			"Start the feed once. GRANT CREATE ON DATABASE x TO y;"},
		"ALTER TABLE x REPLICA IDENTITY FULL":   {nil, "ALTER TABLE x REPLICA IDENTITY FULL"},
		`ALTER TABLE "x REPLICA IDENTITY FULL;`: {nil, `ALTER TABLE "x REPLICA IDENTITY FULL;`},
		"DROP TABLE x;":                         {nil, "DROP TABLE x;"},
		"ALTER TABLE x REPLICA IDENTITY FULL; or give it a new key.": {[]string{"ALTER TABLE x REPLICA IDENTITY FULL"},
			"or give it a new key."},
		"": {nil, ""},
	} {
		list, then := problem.Statements(remedy)
		require.Equal(t, want.list, list, remedy)
		require.Equal(t, want.then, then, remedy)
	}
}
