package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// glossary is what the words mean that commands, pages and messages use.
var glossary = map[string]string{
	"backfill":      "A chosen range of a table's watermarks, read again in slices, beside the feed's runs.",
	"batch":         "Rows that travel together.",
	"blocker":       "A finding that keeps a feed file from being applied.",
	"books":         "The counters of a table in a run: read = filtered + folded + set aside + unchanged + inserted + updated + deleted.",
	"change log":    "What a database writes of every change, in the order of the commits; find: log follows it.",
	"compare":       "A way to find changes: the source gives digests of ranges of the key, and ranges that differ are read.",
	"copy":          "All rows of a table, read in one snapshot while its changes wait; the beginning of a table that follows the log.",
	"cut":           "What one commit takes a feed to: the end of a transaction of the source, for all of its tables.",
	"derived table": "A table that SQL makes in a warehouse of those that feeds keep there, after their commits or by the clock.",
	"drift":         "A change of a table's structure at the source; a feed follows it, is held by it, or ignores it.",
	"feed":          "Tables of one source that are kept in one warehouse: how changes are found, how rows are kept, and when.",
	"feed file":     "A feed as YAML; noemata feeds apply makes the feed as it says.",
	"filtered":      "Rows that the feed's condition leaves out.",
	"find":          "How a table's changes are found: log, watermark, compare or whole.",
	"finding":       "What was found on checking a feed, a source or a warehouse: a blocker, a warning or a note, with its remedy.",
	"fold":          "To make one change of several of one row in a batch.",
	"freshness":     "How old what the warehouse shows may become before changes of the log are written.",
	"held":          "Of a table: it waits for a person, with a reason and a remedy; the rest of the feed goes on.",
	"history":       "A way to keep rows: each version, with the times from and until which it held.",
	"keep":          "How rows are kept: latest, soft-delete, history, ledger or replace.",
	"key":           "The columns that tell a table's rows apart. Also: what columns are hashed with (noemata keys).",
	"lag":           "How far what the warehouse shows is behind the source.",
	"latest":        "A way to keep rows: as they are at the source.",
	"ledger":        "A way to keep rows: each change is an entry, and none is ever changed.",
	"look-back":     "How far below its position a run by watermark begins again, for rows that come late.",
	"pattern":       "A table's name with * in it: it stands for tables that are there, and for those to come.",
	"position":      "How far a table, or a feed that follows the log, has come; kept in the warehouse, with the rows.",
	"preview":       "Rows of a table before and after a feed file has shaped them; nothing is written.",
	"proof":         "Both sides compared, value by value, as a dated statement.",
	"repair":        "The rows that a proof finds to differ, brought to what the source has, and no others.",
	"remedy":        "What mends a finding or a problem; a command or a statement in it runs as pasted.",
	"replace":       "A way to keep rows: all of them are swapped in.",
	"revision":      "What a feed's file has said from one change to the next, and who has changed it.",
	"run":           "One bounded piece of work of a feed.",
	"set aside":     "Of a row: it cannot be stored as it is, and is kept with its reason in the warehouse's control schema.",
	"settle":        "How far a run stays behind the source's clock, so that no row comes below its position later.",
	"shape":         "What becomes of rows on their way: columns left out, renamed, typed, hashed, masked, taken from JSON, computed; rows filtered.",
	"slice":         "A part of a backfill that is committed at once.",
	"snapshot":      "The rows of a source at one moment.",
	"soft-delete":   "A way to keep rows: those that are deleted stay, with the time they went.",
	"source":        "A database that is read.",
	"sweep":         "Comparing the keys of both sides, which finds deletes that a watermark does not show.",
	"target":        "A table of a warehouse that rows are brought to.",
	"warehouse":     "A database, or a file, that is written.",
	"watermark":     "A column that rises when rows come or change; find: watermark reads above its last value.",
	"whole":         "A way to find changes: the table is read anew each time.",
	"window":        "The bounds between which a watermark is read.",
}

func (a *app) wordsCommand() *cobra.Command {
	return &cobra.Command{Use: "words [WORD]", Short: "Say what the words mean that commands and pages use",
		Args: between(0, 2), ValidArgs: slices.Sorted(maps.Keys(glossary)),
		RunE: func(cmd *cobra.Command, args []string) error {
			asked := strings.ToLower(strings.Join(args, " "))
			said := map[string]string{}
			for word, meaning := range glossary {
				if asked == "" || word == asked || word == strings.TrimSuffix(asked, "s") {
					said[word] = meaning
				}
			}
			if len(said) == 0 {
				return usageError{fmt.Errorf("noemata words has no %q; without a word it lists them all", asked)}
			}
			return a.show(cmd, said, func(w io.Writer) {
				for _, word := range slices.Sorted(maps.Keys(said)) {
					_, _ = fmt.Fprintf(w, "%-12s %s\n", word, said[word])
				}
			})
		}}
}

func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{Use: "man FOLDER", Short: "Write a manual page of each command into a folder", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			root := cmd.Root()
			root.DisableAutoGenTag = true // the same pages each time
			header := &doc.GenManHeader{Title: "NOEMATA", Section: "1", Source: "Noemata " + a.version}
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return usageError{fmt.Errorf("the pages cannot be written: %w", err)}
			}
			return a.say(cmd, map[string]string{"folder": args[0]},
				"The pages are in %s; read the first by man -l %[1]s/noemata.1.",
				args[0])
		}}
}
