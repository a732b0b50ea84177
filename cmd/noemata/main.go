// Command noemata is the service, its command line and its demo in one program.
package main

import (
	"os"
	"runtime/debug"

	"noemata/demo"
	"noemata/internal/cli"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/mysql"
	sourcepostgres "noemata/internal/source/postgres"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	warehousepostgres "noemata/internal/warehouse/postgres"
)

// version is set when a release is built.
var version = "0.1.0-dev"

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(50) // batches come and go; half the room between collections costs little
	}
	source.Kinds.Register(sourcepostgres.Kind, sourcepostgres.Opener)
	source.Kinds.Register(mariadb.Kind, mariadb.Opener)
	source.Kinds.Register(mysql.Kind, mysql.Opener)
	warehouse.Kinds.Register(duckdb.Kind, duckdb.Opener)
	warehouse.Kinds.Register(warehousepostgres.Kind, warehousepostgres.Opener)
	os.Exit(cli.Main(version, demo.Runner(version), os.Args[1:], os.Stdout, os.Stderr))
}
