//go:build !duckdb_arrow

// Package duckdb needs the build tag duckdb_arrow, without which DuckDB's driver has no
// Arrow: make build and make test give it. By hand: go env -w GOFLAGS=-tags=duckdb_arrow
package duckdb

var _ = BUILD_WITH_MAKE_OR_WITH__go_build_tags_duckdb_arrow
