// Command noemata is the service, its command line and its demo in one program.
package main

import (
	"fmt"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"strings"
	"syscall"
	"time"

	"noemata/demo"
	"noemata/internal/cli"
	"noemata/internal/source"
	sourcelake "noemata/internal/source/lake"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/mysql"
	sourcepostgres "noemata/internal/source/postgres"
	"noemata/internal/source/sqlite"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/lake"
	warehousepostgres "noemata/internal/warehouse/postgres"
)

// version is set when a release is built.
var version = "0.1.0-dev"

func main() {
	if os.Getenv("GOGC") == "" {
		go collect()
	}
	if err := overwriteWhatIsFree(); err != nil {
		fmt.Fprintln(os.Stderr, "noemata:", err)
		os.Exit(1)
	}
	source.Kinds.Register(sourcepostgres.Kind, sourcepostgres.Opener)
	source.Kinds.Register(mariadb.Kind, mariadb.Opener)
	source.Kinds.Register(mysql.Kind, mysql.Opener)
	source.Kinds.Register(sqlite.Kind, sqlite.Opener)
	source.Kinds.Register(sourcelake.Kind, sourcelake.Opener)
	warehouse.Kinds.Register(duckdb.Kind, duckdb.Opener)
	warehouse.Kinds.Register(lake.Kind, lake.Opener)
	warehouse.Kinds.Register(warehousepostgres.Kind, warehousepostgres.Opener)
	os.Exit(cli.Main(version, demo.Runner(version), os.Args[1:], os.Stdout, os.Stderr))
}

// collect sets how often memory is collected. Batches come and go, and half the room between collections costs little;
// but where little is in use, or little comes, as in a service that is idle, to collect it would be most of what is
// done.
func collect() {
	const (
		every  = 2 * time.Second
		little = 48 << 20 // bytes that are in use
		calm   = 32 << 20 // bytes that have come since it was looked last
	)
	seen := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/gc/heap/allocs:bytes"}}
	for last, before := 0, uint64(0); ; time.Sleep(every) {
		metrics.Read(seen)
		live, came := seen[0].Value.Uint64(), seen[1].Value.Uint64()-before
		before += came
		percent := 50
		switch {
		case live < little:
			percent = 200
		case came < calm:
			percent = 100
		}
		if percent != last { // to set it stops the world
			debug.SetGCPercent(percent)
		}
		last = percent
	}
}

// overwriteWhatIsFree has a service start anew in a runtime that overwrites memory once it is free, where values may
// have been that no one shall read, and that saves no registers, which may hold some, where nothing
// overwrites them. The runtime takes both from its environment at the start alone (package runtime, GODEBUG).
func overwriteWhatIsFree() error {
	const settings = "clobberfree=1,asyncpreemptoff=1"
	given := os.Getenv("GODEBUG")
	if len(os.Args) < 2 || os.Args[1] != "serve" && os.Args[1] != "demo" || strings.Contains(given, "clobberfree=") {
		return nil
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	if err := os.Setenv("GODEBUG", strings.Trim(given+","+settings, ",")); err != nil {
		return err
	}
	return syscall.Exec(program, os.Args, os.Environ())
}
