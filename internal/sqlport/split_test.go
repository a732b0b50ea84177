package sqlport

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestStatementsAreTakenApart(t *testing.T) {
	for text, want := range map[string][]string{
		"":                               nil,
		" ; ;-- nothing\n;/* ; */":       nil,
		"SELECT 1":                       {"SELECT 1"},
		"SELECT 1; SELECT 2;":            {"SELECT 1", " SELECT 2"},
		"SELECT ';', \";\" -- ;\n;":      {"SELECT ';', \";\" -- ;\n"},
		"SELECT 'it''s; so'; B":          {"SELECT 'it''s; so'", " B"},
		`SELECT E'a\';b'; B`:             {`SELECT E'a\';b'`, " B"},
		"SELECT $$a;b$$, $x$;$y$;$x$; B": {"SELECT $$a;b$$, $x$;$y$;$x$", " B"},
		"SELECT $1; B":                   {"SELECT $1", " B"},
		"/* a /* ; */ ; */ A; B":         {"/* a /* ; */ ; */ A", " B"},
		"SELECT 'unended; B":             {"SELECT 'unended; B"},
	} {
		require.Equal(t, want, split(text), text)
	}
}

func FuzzStatementsAreTakenApart(f *testing.F) {
	for _, text := range []string{"SELECT 1; SELECT 2", "'\"$$--/*", "E'\\", "$a$", "/*/*"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		parts := split(text)
		require.LessOrEqual(t, len(strings.Join(parts, "")), len(text))
		for _, part := range parts {
			require.Contains(t, text, part)
		}
		wordsOf(text)
		_, _ = copyOf(text)
	})
}

func TestOptionsOfCopy(t *testing.T) {
	for text, want := range map[string]copying{
		"COPY kept.loans TO STDOUT": {query: "TABLE kept.loans", format: "text", delimiter: "\t", null: `\N`},
		"copy kept.loans (id, a) to stdout": {query: "SELECT id, a FROM kept.loans", format: "text", delimiter: "\t",
			null: `\N`},
		"COPY (SELECT 1) TO STDOUT CSV HEADER": {query: "SELECT 1", format: "csv", delimiter: ",", header: true},
		"COPY (SELECT 1) TO STDOUT WITH (FORMAT csv, DELIMITER ';', NULL 'none', HEADER true, FORCE_QUOTE " +
			"*)": {query: "SELECT 1",
			format: "csv", delimiter: ";", null: "none", header: true, quoteAll: true},
		"COPY (SELECT ')') TO STDOUT (FORMAT binary)": {query: "SELECT ')'", format: "binary"},
		"COPY x TO STDOUT WITH BINARY":                {query: "TABLE x", format: "binary"},
	} {
		c, err := copyOf(text)
		require.NoError(t, err, text)
		require.Equal(t, want, *c, text)
	}
	for text, says := range map[string]string{
		"COPY x FROM STDIN": "Nothing is written", "COPY x TO '/tmp/x'": "Nothing is written",
		"COPY x TO PROGRAM 'sh'":        "Nothing is written",
		"COPY x TO STDOUT (FORMAT xml)": "text, csv and binary", "COPY x TO STDOUT (QUOTE '|')": "no option quote",
		"COPY x TO STDOUT (DELIMITER 'ab')": "one character", "COPY x TO STDOUT (ENCODING 'latin1')": "UTF-8",
	} {
		_, err := copyOf(text)
		require.ErrorContains(t, err, says, text)
	}
	c, err := copyOf("SELECT 1")
	require.NoError(t, err)
	require.Nil(t, c)
}
