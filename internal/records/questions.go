package records

import "time"

// Question is one that a warehouse was asked.
type Question struct {
	ID        int64      `json:"id"`
	At        time.Time  `json:"at"`
	By        string     `json:"by" doc:"The name of the person or the token"`
	Address   string     `json:"address" doc:"Where it came from"`
	Way       string     `json:"way" enum:"api,sql" doc:"Through the API, or through the SQL port"`
	Warehouse string     `json:"warehouse"`
	SQL       string     `json:"sql"`
	Process   string     `json:"process" doc:"The process of the service that answered"`
	State     string     `json:"state" enum:"running,done,failed,stopped"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Rows      int64      `json:"rows" doc:"Of the answer, as far as it was read"`
	Problem   string     `json:"problem,omitempty" doc:"Why there was no answer, or not all of it"`
}

// Ways to ask.
const (
	ByAPI = "api"
	BySQL = "sql"
)

// States of a question.
const (
	Asked       = "running"
	Answered    = "done"
	Unanswered  = "failed"
	AskedNoMore = "stopped"
)

// QuestionFilter chooses questions; what is empty leaves none out.
type QuestionFilter struct {
	By, Warehouse, State string
	Before               int64 // only those before this one
	Limit                int
}

// Ask is a question.
type Ask struct {
	SQL    string     `json:"sql" minLength:"1" maxLength:"100000" doc:"One question, in the words of the warehouse's own SQL"`
	Values []*string  `json:"values,omitempty" maxItems:"1000" doc:"Of $1, $2 and so on, as text; null for none"`
	AsOf   *time.Time `json:"as_of,omitempty" doc:"Histories are seen as they were at this moment"`
	Mark   string     `json:"mark,omitempty" maxLength:"64" doc:"Of a lake: what is kept under this name is seen, instead of what its tables hold now"`
	Format string     `json:"format,omitempty" enum:"rows,json,csv,arrow,parquet" default:"rows" doc:"How the answer is written: rows is JSON with the columns and each value as text"`
	Rows   int64      `json:"rows,omitempty" minimum:"0" doc:"So many rows at most; rows then says whether there are more; 0 is all"`
}

// Mark is a state of a lake's tables that is kept under a name.
type Mark struct {
	Name   string     `json:"name" doc:"What it is called"`
	At     time.Time  `json:"at" doc:"When what it holds was last changed"`
	Until  *time.Time `json:"until,omitempty" doc:"Until when it is kept; until it is removed when left out"`
	Tables int        `json:"tables" doc:"How many tables it holds"`
}

// NewMark is one to be made.
type NewMark struct {
	Name string `json:"name" minLength:"1" maxLength:"64" doc:"What it is called: letters, digits, and _ . : - between them"`
	Keep string `json:"keep,omitempty" maxLength:"20" doc:"For how long it is kept, as 90d; until it is removed when left out"`
}

// Answer is one in the format rows.
type Answer struct {
	Columns []AnswerColumn `json:"columns"`
	Rows    [][]*string    `json:"rows"`
	More    bool           `json:"more" doc:"Whether there are rows that were not asked for"`
}

// AnswerColumn is a column of an answer.
type AnswerColumn struct {
	Name string `json:"name"`
	Type string `json:"type" doc:"As the warehouse calls it"`
	Kind string `json:"kind" doc:"As feed files call it"`
}

// Askable is a warehouse that somebody may ask.
type Askable struct {
	Warehouse string         `json:"warehouse"`
	Kind      string         `json:"kind"`
	Problem   string         `json:"problem,omitempty" doc:"Why its tables cannot be listed"`
	Tables    []AskableTable `json:"tables"`
}

// AskableTable is a table or view of it.
type AskableTable struct {
	Schema  string          `json:"schema"`
	Table   string          `json:"table"`
	Comment string          `json:"comment,omitempty"`
	Columns []AskableColumn `json:"columns"`
}

// AskableColumn is a column of one.
type AskableColumn struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Comment string `json:"comment,omitempty"`
}

// SavedQuestion is one that people share.
type SavedQuestion struct {
	Name      string    `json:"name"`
	Warehouse string    `json:"warehouse"`
	SQL       string    `json:"sql"`
	By        string    `json:"by" doc:"Who has saved it, and may change it"`
	At        time.Time `json:"at"`
}

// NewSavedQuestion is one that is to be shared.
type NewSavedQuestion struct {
	Warehouse string `json:"warehouse" minLength:"1"`
	SQL       string `json:"sql" minLength:"1" maxLength:"100000"`
}

// Export is what of a warehouse is to be copied out, as one cut.
type Export struct {
	Tables      []string   `json:"tables" minItems:"1" maxItems:"1000" doc:"Tables, as schema.table, with * for any letters"`
	Format      string     `json:"format,omitempty" enum:"json,csv,arrow,parquet" default:"parquet"`
	PartitionBy string     `json:"partition_by,omitempty" pattern:"^(year|month|day)\\(.+\\)$" doc:"As month(lent_at): a file for each month of the tables that have such a column"`
	AsOf        *time.Time `json:"as_of,omitempty" doc:"Histories are seen as they were at this moment"`

	Digests bool              `json:"digests,omitempty" doc:"The manifest has a digest of each file's rows"`
	Known   map[string]string `json:"known,omitempty" maxProperties:"100000" doc:"With digests: files of an earlier export that whoever asks has still, with their digests. Those whose rows are the same are not sent"`
}

// Exported tells what was copied out: the last part of an export.
type Exported struct {
	Warehouse string         `json:"warehouse"`
	At        time.Time      `json:"at" doc:"What the warehouse had committed before this is in"`
	AsOf      *time.Time     `json:"as_of,omitempty"`
	Files     []ExportedFile `json:"files"`
}

// ExportedFile is a file of one.
type ExportedFile struct {
	File   string `json:"file"`
	Schema string `json:"schema"`
	Table  string `json:"table"`
	Rows   int64  `json:"rows"`
	Digest string `json:"digest,omitempty" doc:"Of its rows: another one when they are others"`
	Same   bool   `json:"same,omitempty" doc:"Its rows are those that were known, and it was not sent"`
}
