// Package client is the API of a Noemata service: its types and a Go client.
//
//	c := client.New("http://127.0.0.1:8420", token)
//	run, err := c.StartRun(ctx, "circulation")
package client

import (
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/records"
)

// Settings, Books, Finding and the others below are what the API shares with the
// parts of the service that make them.
type (
	Settings = connection.Settings
	Books    = rows.Books
	Finding  = problem.Finding
	Feed     = feed.Feed
	Table    = feed.Table
	Change   = feed.Change

	Problem       = records.Problem
	Connection    = records.Connection
	NewConnection = records.NewConnection
	Applied       = records.Applied
	Revision      = records.Revision
	Checkpoint    = records.Checkpoint
	Move          = records.Move
	FeedStatus    = records.FeedStatus
	LogStatus     = records.LogStatus
	LogSample     = records.LogSample
	CopyStatus    = records.CopyStatus
	TableStatus   = records.TableStatus
	Proof         = records.Proof
	Proving       = records.Proving
	Run           = records.Run
	Backfill      = records.Backfill
	BackfillRange = records.BackfillRange
	RunTable      = records.RunTable
	Statement     = records.Statement
	HashKey       = records.HashKey
	Drift         = drift.Drift
	Event         = records.Event
	Token         = records.Token
	NewToken      = records.NewToken
	Role          = records.Role
	Session       = records.Session
	Process       = records.Process
	Place         = records.Place
	User          = records.User
	NewUser       = records.NewUser
	Ways          = records.Ways
	Ask           = records.Ask
	Mark          = records.Mark
	NewMark       = records.NewMark

	DerivedSet     = records.DerivedSet
	DerivedTable   = records.DerivedTable
	DerivedCheck   = records.DerivedCheck
	DerivedApplied = records.DerivedApplied
	Derivation     = records.Derivation

	Answer        = records.Answer
	AnswerColumn  = records.AnswerColumn
	Askable       = records.Askable
	AskableTable  = records.AskableTable
	AskableColumn = records.AskableColumn
	Question      = records.Question
	SavedQuestion = records.SavedQuestion
	Export        = records.Export
	Exported      = records.Exported
	ExportedFile  = records.ExportedFile
	Overview      = records.Overview
	Need          = records.Need
	FeedSummary   = records.FeedSummary
	LogEntry      = records.LogEntry
	LogFilter     = records.LogFilter
	Volume        = records.Volume
	Retention     = records.Retention
	Burden        = records.Burden
	Alert         = records.Alert
	Channel       = records.Channel
	ChangeMade    = records.ChangeMade
	Tested        = records.Tested
	Belongs       = feed.Belongs
	Offer         = records.Offer
	Mending       = records.Mending
	Mended        = records.Mended
	SignIn        = records.SignIn
	Privileges    = records.Privileges

	PrivilegesAsked = records.PrivilegesAsked
)

// PhaseDone is the phase of a table whose part of a run has ended.
const PhaseDone = records.PhaseDone

// SourceTable is a table or view of a source.
type SourceTable struct {
	Table       string         `json:"table" doc:"Its name, as a feed file has it"`
	Schema      string         `json:"schema" doc:"The schema, or database, that it is in"`
	View        bool           `json:"view" doc:"Whether it is a view"`
	Partitioned bool           `json:"partitioned" doc:"Whether its rows are in partitions"`
	Rows        int64          `json:"rows" doc:"The source's own estimate of its rows; -1 when it has none"`
	Bytes       int64          `json:"bytes" doc:"What its rows take, by the source's statistics; -1 when it has none, or for one table"`
	Comment     string         `json:"comment,omitempty" doc:"What the source's owners say of it"`
	Key         []string       `json:"key,omitempty" doc:"Its primary key, or another key that cannot be null"`
	Columns     []SourceColumn `json:"columns,omitempty" doc:"Its columns, where one table was asked for"`
}

// SourceColumn is one column of a source's table.
type SourceColumn struct {
	Name      string `json:"name"`
	Native    string `json:"native" doc:"Its type at the source"`
	Type      string `json:"type" doc:"The type it travels as"`
	Nullable  bool   `json:"nullable"`
	Watermark bool   `json:"watermark" doc:"Whether it can be a watermark"`
}

// Versions are the versions of one row in a history.
type Versions struct {
	Table    string    `json:"table"`
	Key      []string  `json:"key"`
	Columns  []string  `json:"columns"`
	Versions []Version `json:"versions" doc:"The oldest first"`
}

// Version is one version of a row.
type Version struct {
	From     time.Time  `json:"from"`
	Until    *time.Time `json:"until,omitempty" doc:"The moment it ended; none while it holds"`
	Position string     `json:"position"`
	Run      int64      `json:"run"`
	Values   []*string  `json:"values" doc:"In the order of the columns; null where the value is null"`
	Changed  []string   `json:"changed" doc:"The columns that differ from the version before"`
}

// Sample is rows of a table on both sides, each value as text.
type Sample struct {
	Columns   []string    `json:"columns"`
	Added     []string    `json:"added" doc:"Columns that only the warehouse has"`
	Source    [][]*string `json:"source"`
	Warehouse [][]*string `json:"warehouse"`
}

// Preview is some rows of a table before and after a feed file has shaped them. Values that
// must not be seen are hidden in both.
type Preview struct {
	Table    string       `json:"table"`
	Before   []string     `json:"before" doc:"Columns of the source that are read"`
	After    []string     `json:"after" doc:"Columns of the target, without those that Noemata adds"`
	Rows     []PreviewRow `json:"rows"`
	Read     int64        `json:"read" doc:"Rows that were looked at"`
	Filtered int64        `json:"filtered" doc:"Of those, left out by the filter"`
	SetAside int64        `json:"set_aside" doc:"Of those, not to be stored as they are"`
}

// Proposed is how tables of a source may be brought, as a feed file and with the reasons.
type Proposed struct {
	File     string          `json:"file" doc:"The feed file, in YAML, with the reasons as comments"`
	Tables   []ProposedTable `json:"tables"`
	Findings []Finding       `json:"findings" doc:"What was found on the way"`
}

// ProposedTable is one of them.
type ProposedTable struct {
	Table   string           `json:"table"`
	Rows    int64            `json:"rows" doc:"The source's own estimate; -1 where it has none"`
	Find    string           `json:"find"`
	Keep    string           `json:"keep"`
	Why     string           `json:"why" doc:"Why it is found and kept so"`
	Private []ProposedColumn `json:"private" doc:"Columns that look as if not everybody may see them"`
}

// ProposedColumn is a column whose values look private.
type ProposedColumn struct {
	Column    string `json:"column"`
	Looks     string `json:"looks" doc:"What its name or its values look like"`
	Treatment string `json:"treatment,omitempty" doc:"What is proposed for it; empty where that must be decided"`
}

// PreviewRow is one row, each value as text.
type PreviewRow struct {
	Before []*string `json:"before" doc:"Null where the value is null"`
	After  []*string `json:"after" doc:"Empty where the row does not arrive"`
	Why    string    `json:"why,omitempty" doc:"Why the row does not arrive"`
}

// Counts is the number of rows on both sides at about the same time.
type Counts struct {
	Source    int64     `json:"source"`
	Warehouse int64     `json:"warehouse"`
	Bytes     int64     `json:"bytes" doc:"The room that the table takes in the warehouse, past versions and all; -1 where that is not told"`
	At        time.Time `json:"at"`
}

// About says what the service is.
type About struct {
	Version    string   `json:"version"`
	Sources    []string `json:"sources" doc:"Kinds of source"`
	Warehouses []string `json:"warehouses" doc:"Kinds of warehouse"`
}
