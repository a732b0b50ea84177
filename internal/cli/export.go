package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
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
	var every time.Duration
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
			for {
				err := a.export(ctx, c, cmd, args[0], x, to)
				if every == 0 || ctx.Err() != nil {
					return err
				}
				if err != nil {
					_, _ = fmt.Fprintln(cmd.ErrOrStderr(), err)
				}
				select {
				case <-ctx.Done():
					return nil
				case <-time.After(every):
				}
			}
		})}
	c.Flags().StringArrayVar(&x.Tables, "tables", nil, "tables, as live.loans or live.*; repeatable")
	c.Flags().StringVar(&x.Format, "format", "parquet", "parquet, csv, arrow or json")
	c.Flags().StringVar(&to, "to", "", "the folder; an earlier export in it is replaced, as a whole")
	c.Flags().StringVar(&x.PartitionBy, "partition-by", "",
		"a file for each year, month or day of the tables that have the column, as month(lent_at)")
	c.Flags().BoolVar(&x.Digests, "changed", false,
		"leave files of an earlier export where they are whose rows are the same; what was exported without it has all anew")
	c.Flags().DurationVar(&every, "every", 0, "go on, and export again after each such pause, as 1h; until it is stopped")
	c.Flags().StringVar(&asOf, "as-of", "", "see histories as they were at this moment, as 2026-03-01T08:30:00Z")
	return c
}

// export copies tables once, and says so.
func (a *app) export(ctx context.Context, c *client.Client, cmd *cobra.Command, warehouse string, x client.Export,
	to string) error {
	done, err := exportInto(ctx, c, warehouse, x, to)
	if err != nil {
		return err
	}
	var rows, sent, same int64
	for _, f := range done.Files {
		if f.Same {
			same++
		} else {
			rows, sent = rows+f.Rows, sent+1
		}
	}
	left := ""
	if x.Digests {
		left = fmt.Sprintf(", and %s as before,", words.Plural(same, "file"))
	}
	return a.say(cmd, done, "%s in %s%s are in %s, as they were at %s.", words.Plural(rows, "row"),
		words.Plural(sent, "file"), left, to, done.At.Format("2006-01-02 15:04:05Z"))
}

// known are the files of an earlier export that are there still, with their digests and rows.
func known(folder string) (digests map[string]string, rows map[string]int64) {
	digests, rows = map[string]string{}, map[string]int64{}
	var earlier client.Exported
	content, err := os.ReadFile(filepath.Join(folder, "manifest.json"))
	if err != nil || json.Unmarshal(content, &earlier) != nil {
		return digests, rows // all is exported
	}
	for _, f := range earlier.Files {
		if _, err := os.Stat(filepath.Join(folder, f.File)); err == nil && f.Digest != "" && filepath.IsLocal(f.File) {
			digests[f.File], rows[f.File] = f.Digest, f.Rows
		}
	}
	return digests, rows
}

// takeOver puts a file of an earlier export into the new one.
func takeOver(from, into, name string) error {
	path := filepath.Join(into, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if os.Link(filepath.Join(from, name), path) == nil {
		return nil
	}
	content, err := os.Open(filepath.Join(from, name)) // some file systems have no links
	if err != nil {
		return err
	}
	defer func() { _ = content.Close() }()
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, content)
	return errors.Join(err, f.Sync(), f.Close())
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
	var had map[string]int64
	if x.Digests {
		x.Known, had = known(to)
	}
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
	for i, f := range done.Files {
		if !f.Same {
			continue
		}
		if _, is := had[f.File]; !is {
			return done, fmt.Errorf("the service says that %q is as before, and there was none", f.File)
		}
		if err := takeOver(to, beside, f.File); err != nil {
			return done, err
		}
		done.Files[i].Rows = had[f.File]
	}
	if x.Digests {
		if err := keepManifest(beside, done); err != nil {
			return done, err
		}
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

// keepManifest writes what the folder has now: also the rows of files that were there before.
func keepManifest(folder string, done client.Exported) error {
	done.Files = slices.Clone(done.Files)
	for i := range done.Files {
		done.Files[i].Same = false
	}
	content, _ := json.Marshal(done) // our own types always marshal
	return os.WriteFile(filepath.Join(folder, "manifest.json"), append(content, '\n'), 0o644)
}
