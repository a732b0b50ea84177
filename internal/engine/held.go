package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A table that is held waits, while the rest of its feed goes on. What it was up to then
// stays in the warehouse; when what is in the way is gone, or a person asks for it, it is
// copied again and joins the others.

// reason is why a table is held, as the journal keeps it.
type reason struct {
	Code   problem.Code `json:"code"`
	What   string       `json:"what"`
	Remedy string       `json:"remedy"`
	Heals  bool         `json:"heals"` // it is copied again as soon as nothing is in the way; else when a person asks
}

func (r reason) problem() *problem.Problem { return problem.New(r.Code, r.What, r.Remedy) }

// tableError is what is wrong with one table of a feed.
type tableError struct {
	table string
	cause error
	heals bool
}

func (e *tableError) Error() string { return e.cause.Error() }
func (e *tableError) Unwrap() error { return e.cause }

// blame says that an error is one table's, where it is.
func blame(t *logTable, err error) error {
	if err == nil || !problem.OfTable(err) {
		return err
	}
	return &tableError{table: t.Table.Table, cause: err}
}

// named puts the names of feed and table in the place of those words in the commands of a
// remedy.
func named(err error, feed, table string) error {
	var p *problem.Problem
	if !errors.As(err, &p) || !strings.Contains(p.Remedy, "noemata ") {
		return err
	}
	feed, table = problem.Word(feed), problem.Word(table)
	remedy := strings.NewReplacer("feeds copy FEED", "feeds copy "+feed, "--table TABLE", "--table "+table,
		"positions clear FEED TABLE", "positions clear "+feed+" "+table).Replace(p.Remedy)
	return problem.Wrap(err, p.Code, p.What, remedy)
}

// hold keeps a table out of its feed from now on. A worker that lost the feed to another
// one, which has moved its position since, holds nothing. A move by the same run is its own:
// a commit whose answer was lost.
func hold(ctx context.Context, wh warehouse.Warehouse, feed string, run int64, stands warehouse.Checkpoint,
	e *tableError) error {
	p := problem.Of(named(e.cause, feed, e.table))
	text, _ := json.Marshal(reason{p.Code, p.What, p.Remedy, e.heals}) // texts always marshal
	now, err := wh.Journal().Checkpoint(ctx, feed, "")
	if err != nil {
		return err
	}
	if now.Run == run {
		stands = now
	}
	return wh.Journal().Note(ctx, feed, warehouse.Hold{Table: e.table, Reason: string(text), Version: stands.Version})
}

// setBack decides what becomes of a table that something is in the way of: where its structure
// has changed, and the feed follows such changes, it is copied again; else it is held. tried
// tells that it was to be copied again already.
func (s *session) setBack(ctx context.Context, trouble *tableError, tried bool) (follows bool, err error) {
	t, _ := s.Feed.Table(trouble.table)
	kind, drifted := drift.KindOf(trouble.cause)
	if drifted && !tried && s.Feed.Policy(t, kind) == drift.Follow {
		return true, s.Warehouse.Journal().Note(ctx, s.Feed.Name, warehouse.CopyAgain{Table: trouble.table},
			s.drifted(trouble, kind, "Followed: the target was changed where it had to be, and the table is copied again."))
	}
	stands, _ := s.board.at()
	if err := hold(ctx, s.Warehouse, s.Feed.Name, s.Run, stands, trouble); err != nil || !drifted {
		return false, err
	}
	return false, s.Warehouse.Journal().Note(ctx, s.Feed.Name, s.drifted(trouble, kind,
		"The table is held, as the feed asks."))
}

// chosen has columns of a table brought that a person has chosen, from here on; nil where there is more to it.
func (s *session) chosen(t *logTable) warehouse.Entry {
	var was structure
	if json.Unmarshal([]byte(t.copy.Structure), &was) != nil || !structureOf(t.plan).chosen(was, t.plan) {
		return nil
	}
	return s.copyAgainFor(t, was)
}

// remade tells whether a table's target no longer fits for what a person has made of its columns alone.
func (s *session) remade(t *logTable) bool {
	var was structure
	return json.Unmarshal([]byte(t.copy.Structure), &was) == nil &&
		structureOf(t.plan).remade(was, t.plan, drift.ColumnsOf(t.trouble))
}

func (s *session) drifted(trouble *tableError, kind drift.Kind, done string) warehouse.Entry {
	return warehouse.Drifted{Entry: drift.Drift{Table: trouble.table, Kind: kind, Run: s.Run,
		What: problem.Of(trouble.cause).What, Done: done}}
}

// structure is what the journal keeps of a table that follows, so that another one is noticed.
type structure struct {
	Key     []string `json:"key"`
	Columns []string `json:"columns"` // in the order of the source
	Target  string   `json:"target"`
	Table   string   `json:"table,omitempty"` // the source's own for it
	Shape   string   `json:"shape,omitempty"` // tells one from another; empty where rows arrive as they are read
	Parts   []string `json:"parts,omitempty"` // of the table: pieces that hold rows
	PartsAt string   `json:"parts_at,omitempty"`
	Refers  string   `json:"refers,omitempty"` // the foreign keys by which rows change without being told
	Find    string   `json:"find,omitempty"`   // of a table that does not follow the log: what its position is of
	Source  []string `json:"source,omitempty"` // columns that the source has, those included that are left there
	Made    made     `json:"made,omitempty"`
}

// made tells of each column that arrives what it is made of, and under no name, of the filter.
type made map[string]string

// differs tells whether rows that came in before have other values in some column, or are others.
func (m made) differs(was made) bool {
	if m[""] != was[""] {
		return true
	}
	for column, how := range m {
		if before, known := was[column]; known && how != before {
			return true
		}
	}
	return false
}

// more lists the columns that did not arrive before.
func (m made) more(was made) (columns []string) {
	for column := range m {
		if _, known := was[column]; !known && column != "" {
			columns = append(columns, column)
		}
	}
	slices.Sort(columns)
	return columns
}

// chosen tells whether columns arrive that did not before, and that a person has chosen: the source had
// them already.
func (s structure) chosen(was structure, p plan) bool {
	_, of := p.shape.Made()
	more := s.Made.more(was.Made)
	return was.Made != nil && len(more) > 0 && !slices.ContainsFunc(more, func(column string) bool {
		return slices.ContainsFunc(of[column], func(c string) bool { return !slices.Contains(was.Source, c) })
	})
}

// remade tells whether columns of the target that no longer fit are those that a person has made otherwise, or has
// chosen to be brought, each of them.
func (s structure) remade(was structure, p plan, misfits []string) bool {
	_, of := p.shape.Made()
	return was.Made != nil && len(misfits) > 0 && !slices.ContainsFunc(misfits, func(column string) bool {
		before, known := was.Made[column]
		if known {
			return s.Made[column] == before
		}
		return slices.ContainsFunc(of[column], func(c string) bool { return !slices.Contains(was.Source, c) })
	})
}

// fills lists the columns that rows of before can be given by key; none where there are no more columns, or
// the rows cannot be told by their key.
func (s structure) fills(was structure, t warehouse.Target) []string {
	keeps := t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete || t.Keep == feed.KeepHistory
	if was.Made == nil || !keeps || !t.Unique || len(t.Key) == 0 || !slices.Equal(s.Key, was.Key) ||
		s.Table != was.Table || s.Target != was.Target || s.Made.differs(was.Made) {
		return nil
	}
	return s.Made.more(was.Made)
}

func structureOf(p plan) structure {
	s := structure{Key: append([]string{}, p.target.Key...), Columns: p.query.Table.ColumnNames(),
		Table: p.query.Table.ID, Shape: p.shape.Digest(), Target: p.target.Name.Display()}
	s.Parts, s.PartsAt, s.Source = p.query.Table.Parts, p.query.Table.PartsAt, p.source
	s.Made, _ = p.shape.Made()
	if p.find == feed.FindLog {
		s.Refers = refersText(p.query.Table.Refers)
	}
	if p.find != feed.FindLog {
		s.Find = string(p.find)
	}
	return s
}

func (s structure) String() string {
	text, _ := json.Marshal(s) // texts always marshal
	return string(text)
}

// layout tells the rows of one structure from those of another; the pieces they are in aside.
func (s structure) layout() string {
	s.Parts, s.PartsAt, s.Source = nil, "", nil
	return s.String()
}

// changed tells why rows that came in under another structure are not those of this one; nil
// where they are. Columns that exchange their names exchange their places.
func (s structure) changed(was structure, table, remedy string) error {
	if was.Table != "" && s.Table != was.Table {
		return drift.Of(drift.Tables, problem.Newf(problem.Held, remedy,
			"The table %s is another than the one that rows came from before: it was dropped and made anew, "+
				"replaced, or is a query that reads otherwise.",
			table))
	}
	if !slices.Equal(s.Key, was.Key) {
		return drift.Of(drift.Keys, problem.Newf(problem.Held, remedy,
			"The key of %s was changed: it was (%s) and is (%s), and rows that came in before are known by the old one.",
			table, strings.Join(was.Key, ", "), strings.Join(s.Key, ", ")))
	}
	if s.Refers != was.Refers && s.Find == "" {
		return drift.Of(drift.Keys, problem.Newf(problem.Held, remedy,
			"The foreign keys were changed by which the source changes rows of %s without logging it: by which ones it "+
				"has since the last run is not known.", table))
	}
	if was.Target != "" && s.Target != was.Target {
		return problem.Newf(problem.Held,
			"To fill it, copy the table: noemata feeds copy FEED --table TABLE. Or give the feed its old target again.",
			"The target of %s was %s and is %s, a table that was there before and that this feed has not filled.",
			table, was.Target, s.Target)
	}
	last := -1
	for _, c := range s.Columns {
		at := slices.Index(was.Columns, c)
		if at >= 0 && at < last {
			return drift.Of(drift.Columns, problem.Newf(problem.Held, remedy,
				"The columns of %s stand in another order than before: if names were exchanged, the rows that came "+
					"in before have the wrong values under them.", table))
		}
		last = max(last, at)
	}
	return nil
}

// partsChanged tells whether pieces of a table came or went as a whole, which what is followed does
// not tell. Of those that went a table that takes no deletes need not know, nor one by watermark, which
// sees none anyway.
func partsChanged(ctx context.Context, src source.Source, p plan, t feed.Table, was structure, remedy string) error {
	parted, ok := src.(source.Parted)
	if !ok || was.Parts == nil || slices.Equal(was.Parts, p.query.Table.Parts) {
		return nil
	}
	came, err := parted.Came(ctx, p.query.Table, was.Parts)
	if err != nil {
		return err
	}
	if came != "" {
		return drift.Of(drift.Tables, problem.Newf(problem.Held, remedy,
			"The partition %s was attached to %s with rows in it, which nothing tells of.", came, t.Table))
	}
	if t.Find != feed.FindLog || len(t.Changes) > 0 && !slices.Contains(t.Changes, "delete") {
		return nil
	}
	went, err := parted.Went(ctx, p.query.Table, was.Parts, was.PartsAt)
	if err != nil || went == "" {
		return err
	}
	return drift.Of(drift.Tables, problem.Newf(problem.Held, remedy,
		"A partition of %s was detached, dropped or emptied by itself (%s), which the log does not tell.", t.Table,
		went))
}

// lost is the entry of columns that the source has no more, though the feed would bring them;
// nil where there is none.
func (s structure) lost(was structure, t feed.Table, run int64) warehouse.Entry {
	var gone []string
	for _, c := range was.Columns {
		if !slices.Contains(s.Columns, c) && !t.Dropped(c) {
			gone = append(gone, c)
		}
	}
	if gone == nil {
		return nil
	}
	return warehouse.Drifted{Entry: drift.Drift{Table: t.Table, Kind: drift.Columns, Run: run,
		What: fmt.Sprintf("The source's table %s has no column %s any more.", t.Table, strings.Join(gone, ", ")),
		Done: "Nothing had to be: the target keeps the values of before, and new rows have none."}}
}

// What has the rows of a table brought again, by how it is found.
const (
	copyRemedy  = "Copy the table again: noemata feeds copy FEED --table TABLE. A history keeps its past."
	clearRemedy = "Have all rows read again: noemata positions clear FEED TABLE. Rows that are gone end, too."
)

// gains tells whether rows of before lack something: values in columns that were not there, or made
// otherwise.
func (s structure) gains(was structure) bool {
	if was.Made == nil { // as an earlier version kept it
		return s.Shape != was.Shape ||
			slices.ContainsFunc(s.Columns, func(c string) bool { return !slices.Contains(was.Columns, c) })
	}
	return s.Made.differs(was.Made) || len(s.Made.more(was.Made)) > 0
}
