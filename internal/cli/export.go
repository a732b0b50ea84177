package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
)

func (a *app) exportCommand() *cobra.Command {
	var x client.Export
	var to, asOf string
	c := &cobra.Command{Use: "export WAREHOUSE",
		Short: "Copy tables of a warehouse into a folder, all as they were at one moment",
		Args:  exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if len(x.Tables) == 0 || to == "" {
				return usageError{fmt.Errorf("say which tables with --tables, and the folder with --to")}
			}
			if asOf != "" {
				us, err := schema.ParseTimestamp(asOf)
				if err != nil {
					return usageError{fmt.Errorf("%q is no moment: write it as 2026-03-01T08:30:00Z", asOf)}
				}
				moment := time.UnixMicro(us).UTC()
				x.AsOf = &moment
			}
			done, err := exportInto(ctx, c, args[0], x, to)
			if err != nil {
				return err
			}
			var rows int64
			for _, f := range done.Files {
				rows += f.Rows
			}
			return a.say(cmd, done, "%s in %s are in %s, as they were at %s.", words.Plural(rows, "row"),
				words.Plural(int64(len(done.Files)), "file"), to, done.At.Format("2006-01-02 15:04:05Z"))
		})}
	c.Flags().StringArrayVar(&x.Tables, "tables", nil, "tables, as live.loans or live.*; repeatable")
	c.Flags().StringVar(&x.Format, "format", "parquet", "parquet, csv, arrow or json")
	c.Flags().StringVar(&to, "to", "", "the folder; an earlier export in it is replaced, as a whole")
	c.Flags().StringVar(&x.PartitionBy, "partition-by", "",
		"a file for each year, month or day of the tables that have the column, as month(lent_at)")
	c.Flags().StringVar(&asOf, "as-of", "", "see histories as they were at this moment, as 2026-03-01T08:30:00Z")
	return c
}

// exportInto writes into a folder beside the one that is meant, which takes its place when all is there.
func exportInto(ctx context.Context, c *client.Client, warehouse string, x client.Export, to string) (client.Exported,
	error) {
	var done client.Exported
	entries, err := os.ReadDir(to)
	if _, other := os.Stat(filepath.Join(to, "manifest.json")); err == nil && len(entries) > 0 && other != nil {
		return done, problem.Newf(problem.Invalid, "Choose another, or empty it.",
			"The folder %s has something else in it.", to)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return done, problem.Wrap(err, problem.Invalid, "The folder cannot be made: "+err.Error()+".",
			"Choose another with --to.")
	}
	beside, err := os.MkdirTemp(filepath.Dir(to), ".noemata-export-")
	if err != nil {
		return done, problem.Wrap(err, problem.Invalid, "The folder cannot be made: "+err.Error()+".",
			"Choose another with --to.")
	}
	defer func() { _ = os.RemoveAll(beside) }()
	done, err = c.Export(ctx, warehouse, x, func(name string, content io.Reader) error {
		if !filepath.IsLocal(name) {
			return fmt.Errorf("the service names a file %q, which is outside of the folder", name)
		}
		path := filepath.Join(beside, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		f, err := os.Create(path)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, content)
		return errors.Join(err, f.Sync(), f.Close())
	})
	if err != nil {
		return done, err
	}
	if err := os.Chmod(beside, 0o755); err != nil {
		return done, err
	}
	old := beside + ".before"
	if err := os.Rename(to, old); err != nil && !errors.Is(err, os.ErrNotExist) {
		return done, err
	}
	if err := os.Rename(beside, to); err != nil {
		return done, errors.Join(err, os.Rename(old, to))
	}
	return done, os.RemoveAll(old)
}
