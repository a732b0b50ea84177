// Package feed describes a feed: the tables of one source that are kept in one
// warehouse, how their changes are found, how rows are kept, and when.
//
// A feed is written as a YAML file:
//
//	feed: circulation
//	source: circulation
//	warehouse: lake
//	every: 10s
//	target: "circulation.{table}"
//	tables:
//	  - table: public.patrons
//	    find: watermark
//	    watermark: {column: updated_at}
//	    keep: latest
package feed

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"noemata/internal/core/clock"
	"noemata/internal/core/drift"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/core/written"
)

// Find is how a table's changes are found.
type Find string

// Keep is how rows are kept.
type Keep string

// The ways of finding and keeping that this version knows.
const (
	FindLog       Find = "log"
	FindWatermark Find = "watermark"
	FindCompare   Find = "compare"
	FindWhole     Find = "whole"

	KeepLatest     Keep = "latest"
	KeepSoftDelete Keep = "soft-delete"
	KeepHistory    Keep = "history"
	KeepLedger     Keep = "ledger"
	KeepReplace    Keep = "replace"
)

// Defaults for what a feed file leaves out.
const (
	DefaultTarget   = "{schema}.{table}"
	DefaultSettle   = "2s"
	DefaultWait     = "5s"
	DefaultPageRows = 5_000_000
	DefaultPrefix   = "nm_"

	defaultWarn = 1_000_000_000
)

// Continuous is the freshness of a feed that writes changes as soon as it can.
const Continuous = "continuous"

// followUpTo is the freshness up to which a feed is always at work. One that may be older
// rests in between, while the source keeps the log.
const followUpTo = time.Minute

// Feed is a feed as its file describes it.
type Feed struct {
	Name      string `json:"feed" yaml:"feed" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"The feed's name: lower-case letters, digits and hyphens"`
	Source    string `json:"source" yaml:"source" doc:"The name of the source"`
	Warehouse string `json:"warehouse" yaml:"warehouse" doc:"The name of the warehouse"`
	Belongs   `yaml:",inline"`
	Freshness string  `json:"freshness,omitempty" yaml:"freshness,omitempty" doc:"For feeds that follow the log: continuous, or how old what the warehouse shows may become before changes are written, as 1s, 15m or 1d; instead of every and cron, which say when tables are read that do not follow it"`
	Every     string  `json:"every,omitempty" yaml:"every,omitempty" doc:"The pause from the end of one run to the start of the next, as 10s, 15m or 2h"`
	Cron      string  `json:"cron,omitempty" yaml:"cron,omitempty" doc:"When to run, as five cron fields, instead of every"`
	Zone      string  `json:"zone,omitempty" yaml:"zone,omitempty" doc:"The time zone that cron is read in; UTC when left out"`
	Prove     string  `json:"prove,omitempty" yaml:"prove,omitempty" doc:"How old the last proof of a table may become before the table is proven again, as 1d or 12h; tables that are new are proven after their first load. Only when asked for, when left out"`
	Target    string  `json:"target,omitempty" yaml:"target,omitempty" doc:"Names of the target tables: schema.table, with {source}, {schema} and {table} filled in"`
	Prefix    string  `json:"prefix,omitempty" yaml:"prefix,omitempty" pattern:"^[a-z_][a-z0-9_]{0,15}$" doc:"What the names of added columns begin with; nm_ when left out"`
	Retain    *Retain `json:"retain,omitempty" yaml:"retain,omitempty" doc:"How much log the source may have to keep for the feed"`
	Drift     *Drift  `json:"drift,omitempty" yaml:"drift,omitempty,flow" doc:"What becomes of tables whose structure changes at the source"`
	Tables    []Table `json:"tables" yaml:"tables" minItems:"1" doc:"The tables"`

	followsLog bool // of one whose patterns were resolved
}

// Belongs tells whose something is, and how it is found.
type Belongs struct {
	Owner  string `json:"owner,omitempty" yaml:"owner,omitempty" maxLength:"100" doc:"Who answers for it"`
	Team   string `json:"team,omitempty" yaml:"team,omitempty" maxLength:"100" doc:"The team that it is of"`
	Labels Labels `json:"labels,omitempty" yaml:"labels,omitempty,flow" doc:"Words to find it by, as {region: north}"`
}

// Labels are words to find something by, each with a name.
type Labels map[string]string

// How many labels there may be, and how long what people write of themselves may be, in bytes.
const (
	mostLabels = 20
	mostWords  = 100
)

var labelPattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// Has tells whether there is a label as it is asked for: by its name, or as name=value.
func (l Labels) Has(asked string) bool {
	name, value, valued := strings.Cut(asked, "=")
	got, ok := l[name]
	return ok && (!valued || got == value)
}

// Faults tells what is wrong, with the field that it is in.
func (b Belongs) Faults(fault func(path, format string, args ...any)) {
	words := func(path, text string) {
		if len(text) > mostWords || strings.ContainsFunc(text, unicode.IsControl) {
			fault(path, "Write it in one line of %d bytes at most.", mostWords)
		}
	}
	words("owner", b.Owner)
	words("team", b.Team)
	if len(b.Labels) > mostLabels {
		fault("labels", "These are %d labels, and %d may be.", len(b.Labels), mostLabels)
	}
	for _, name := range slices.Sorted(maps.Keys(b.Labels)) {
		if !labelPattern.MatchString(name) {
			fault("labels", "%q cannot be the name of a label: use lower-case letters, digits and hyphens, as region.", name)
		}
		words("labels."+name, b.Labels[name])
	}
}

// Retain says how much log a source may have to keep for a feed, as 500MB or 20GB.
type Retain struct {
	Warn   string `json:"warn,omitempty" yaml:"warn,omitempty" doc:"From here on the feed is shown as a risk to the source; 1GB when left out"`
	Stop   string `json:"stop,omitempty" yaml:"stop,omitempty" doc:"From here on the source is told to keep nothing more: the feed is held and its tables must be copied again; never when left out"`
	Behind string `json:"behind,omitempty" yaml:"behind,omitempty" doc:"How much longer than the feed needs it the log is kept, as 6h or 1d: so far its position can be set back, and a warehouse that was restored goes on. PostgreSQL keeps it by a second replication slot; other servers keep their log as they are set to"`
}

// How much longer a log is kept at least, as the places in it are noted every few minutes, and at most.
const (
	leastBehind = 10 * time.Minute
	MostBehind  = 7 * 24 * time.Hour
)

// BehindBy is how much longer than a feed needs it the log is kept; 0 for no longer.
func (f *Feed) BehindBy() time.Duration {
	if f.Retain == nil || f.Retain.Behind == "" {
		return 0
	}
	d, _ := window.ParseDuration(f.Retain.Behind) // Check has seen to it
	return d
}

// Table is one table of a feed.
type Table struct {
	Table     string               `json:"table,omitempty" yaml:"table,omitempty" doc:"The source table, as schema.table; quote a part that contains a dot. With * for any characters it is a pattern: it stands for the tables that are there, and for those to come"`
	Query     string               `json:"query,omitempty" yaml:"query,omitempty" doc:"Instead of table: a SELECT at the source, whose rows are brought like those of a table"`
	Name      string               `json:"name,omitempty" yaml:"name,omitempty" pattern:"^[A-Za-z_][A-Za-z0-9_]{0,62}$" doc:"What a query is called"`
	Except    []string             `json:"except,omitempty" yaml:"except,omitempty,flow" doc:"Where table is a pattern: tables, or patterns, that are left out"`
	Find      Find                 `json:"find" yaml:"find" enum:"log,watermark,compare,whole" doc:"How changes are found"`
	Watermark *Watermark           `json:"watermark,omitempty" yaml:"watermark,omitempty" doc:"The watermark, where find is watermark"`
	Keep      Keep                 `json:"keep" yaml:"keep" enum:"latest,soft-delete,history,ledger,replace" doc:"How rows are kept"`
	Paused    bool                 `json:"paused,omitempty" yaml:"paused,omitempty" doc:"The table waits as it is; when it goes on, one that follows the log is copied again"`
	Changes   []string             `json:"changes,omitempty" yaml:"changes,omitempty,flow" enum:"insert,update,delete,truncate" doc:"The kinds of change that are applied, where find is log; all when left out"`
	Drop      []string             `json:"drop,omitempty" yaml:"drop,omitempty,flow" doc:"Columns that are left at the source"`
	Only      []string             `json:"only,omitempty" yaml:"only,omitempty,flow" doc:"The columns that are brought; the others are left at the source. All when left out"`
	Where     string               `json:"where,omitempty" yaml:"where,omitempty" doc:"Which rows are brought: an expression in CEL over the columns of the source"`
	Columns   map[string]Treatment `json:"columns,omitempty" yaml:"columns,omitempty" doc:"What becomes of columns on their way, by their name at the source"`
	Computed  map[string]Computed  `json:"computed,omitempty" yaml:"computed,omitempty" doc:"Columns that are made of others, by their name in the target"`
	Key       []string             `json:"key,omitempty" yaml:"key,omitempty,flow" doc:"The columns that name a row, where the source declares no key or another is wanted"`
	Target    string               `json:"target,omitempty" yaml:"target,omitempty" doc:"The target table of this one, instead of the feed's template"`
	Partition []string             `json:"partition,omitempty" yaml:"partition,omitempty,flow" maxItems:"10" doc:"Where the warehouse is a lake: what the target's files are divided by, as month(lent_at), day(c), year(c), hour(c), bucket(16, id) or truncate(4, c)"`
	Drift     *Drift               `json:"drift,omitempty" yaml:"drift,omitempty,flow" doc:"What becomes of this table when its structure changes, instead of what the feed says"`
	Sweep     string               `json:"sweep,omitempty" yaml:"sweep,omitempty" doc:"How often the keys of both sides are compared to find deletes, as 6h or 1d; only with find: watermark"`
	AsText    []string             `json:"as_text,omitempty" yaml:"as_text,omitempty,flow" doc:"Columns stored as text, in the form the source prints"`
	PageRows  int64                `json:"page_rows,omitempty" yaml:"page_rows,omitempty" minimum:"1" doc:"How many rows one query of the source reads at most"`

	ofPattern bool // it is one of those that a pattern stands for
}

// Drift says what becomes of a table whose structure changes at the source.
type Drift struct {
	Tables  drift.Policy `json:"tables,omitempty" yaml:"tables,omitempty" enum:"follow,hold" doc:"Of tables that are replaced; hold when left out"`
	Columns drift.Policy `json:"columns,omitempty" yaml:"columns,omitempty" enum:"follow,hold,ignore" doc:"Of columns that come, go or change their place; hold when left out"`
	Types   drift.Policy `json:"types,omitempty" yaml:"types,omitempty" enum:"follow,hold" doc:"Of columns of another type; hold when left out"`
	Keys    drift.Policy `json:"keys,omitempty" yaml:"keys,omitempty" enum:"follow,hold" doc:"Of tables whose key is another; hold when left out"`
	HashNew string       `json:"hash_new,omitempty" yaml:"hash_new,omitempty" doc:"The key that columns are hashed with which come later, until the feed names them; with columns: follow"`
}

func (d *Drift) of(k drift.Kind) drift.Policy {
	if d == nil {
		return ""
	}
	switch k {
	case drift.Tables:
		return d.Tables
	case drift.Columns:
		return d.Columns
	case drift.Types:
		return d.Types
	}
	return d.Keys
}

// Policy is what becomes of a table where something has changed: as the table says it, or else
// the feed.
func (f *Feed) Policy(t Table, k drift.Kind) drift.Policy {
	return cmp.Or(t.Drift.of(k), f.Drift.of(k), drift.Hold)
}

// HashNew is the key that columns of a table are hashed with which come later; empty for none.
func (f *Feed) HashNew(t Table) string {
	if f.Policy(t, drift.Columns) != drift.Follow {
		return ""
	}
	for _, d := range []*Drift{t.Drift, f.Drift} {
		if d != nil && d.HashNew != "" {
			return d.HashNew
		}
	}
	return ""
}

func (d *Drift) check(at string, fault func(string, string, ...any)) {
	if d == nil {
		return
	}
	if d.HashNew != "" && !ValidName(d.HashNew) {
		fault(at+".hash_new", "%q cannot name a key: use lower-case letters, digits and hyphens, beginning with a "+
			"letter.",
			d.HashNew)
	}
	if d.HashNew != "" && d.Columns != drift.Follow {
		fault(at+".hash_new", "Columns that come later are brought by columns: follow; write that beside it.")
	}
	for _, x := range []struct {
		name   string
		policy drift.Policy
	}{{"tables", d.Tables}, {"columns", d.Columns}, {"types", d.Types}, {"keys", d.Keys}} {
		switch {
		case x.policy == "", x.policy == drift.Follow, x.policy == drift.Hold:
		case x.policy == drift.Ignore && x.name == "columns":
		case x.policy == drift.Ignore:
			fault(at+"."+x.name, "What has changed there cannot be ignored: write follow or hold.")
		default:
			fault(at+"."+x.name, "%q is not a policy: write follow, hold or, for columns, ignore.", x.policy)
		}
	}
}

// Watermark says how a rising column is read.
type Watermark struct {
	Column   string          `json:"column" yaml:"column" doc:"The rising column"`
	Fallback string          `json:"fallback,omitempty" yaml:"fallback,omitempty" doc:"The column that counts where the watermark is null"`
	Settle   string          `json:"settle,omitempty" yaml:"settle,omitempty" doc:"How far a run stays behind the source's clock; 2s when left out"`
	Wait     string          `json:"wait,omitempty" yaml:"wait,omitempty" doc:"How long a run waits for open transactions whose start the source does not tell; 5s when left out"`
	LookBack window.LookBack `json:"look_back,omitempty" yaml:"look_back,omitempty" doc:"How far below its position a run begins again: a length of time, or a number"`
	Start    string          `json:"start,omitempty" yaml:"start,omitempty" doc:"Where the first run begins: beginning, now, or a value; beginning when left out"`
	Zone     string          `json:"zone,omitempty" yaml:"zone,omitempty" doc:"The zone in which a watermark without a zone is written; the source's own when left out"`
}

// Where the first run of a watermark begins, other than at a value.
const (
	StartBeginning = "beginning"
	StartNow       = "now"
)

// Fault is one thing that is wrong with a feed, and where.
type Fault = written.Fault

// Check tells everything that is wrong with a feed, as far as the feed alone shows.
func (f *Feed) Check() []Fault {
	var faults []Fault
	fault := func(path, format string, args ...any) {
		faults = append(faults, Fault{Path: path, Message: fmt.Sprintf(format, args...)})
	}
	CheckName("feed", f.Name, fault)
	if f.Source == "" {
		fault("source", "A feed needs the name of its source.")
	}
	if f.Warehouse == "" {
		fault("warehouse", "A feed needs the name of its warehouse.")
	}
	f.times().Check("", fault)
	if f.Prove != "" {
		if d, err := window.ParseDuration(f.Prove); err != nil || d < time.Minute {
			fault("prove", "%q is not an age of a minute or more: write it as 12h or 1d.", f.Prove)
		}
	}
	f.Faults(fault)
	f.checkLog(fault)
	f.Drift.check("drift", fault)
	if f.Prefix != "" && !prefixPattern.MatchString(f.Prefix) {
		fault("prefix", "%q cannot be a prefix: use lower-case letters, digits and underscores, 16 at most.", f.Prefix)
	}
	if len(f.Tables) == 0 {
		fault("tables", "A feed needs at least one table.")
	}
	sources, targets := map[schema.Name]int{}, map[schema.Name]int{}
	for i := range f.Tables {
		t := &f.Tables[i]
		at := fmt.Sprintf("tables[%d]", i)
		t.check(at, fault)
		t.checkPattern(at, fault)
		if t.checkQuery(at, fault); t.Table == "" {
			continue
		}
		name, err := schema.ParseName(t.Table)
		if err != nil {
			fault(at+".table", "%v.", err)
			continue
		}
		if j, twice := sources[name]; twice {
			fault(at+".table", "The table %s is already tables[%d] of this feed.", t.Table, j)
		}
		sources[name] = i
		target, err := f.TargetOf(*t)
		if err != nil {
			fault(at+".target", "%v.", err)
			continue
		}
		if t.IsPattern() {
			continue // its targets show when it is resolved
		}
		if j, twice := targets[target]; twice {
			fault(at+".target", "Its target %s is already the target of tables[%d].", target, j)
		}
		if target.Schema == ControlSchema {
			fault(at+".target", "The schema %s is kept for Noemata's own records; choose another.", ControlSchema)
		}
		targets[target] = i
	}
	return faults
}

// checkLog tells what is wrong with how the log is followed.
func (f *Feed) checkLog(fault func(string, string, ...any)) {
	logs := 0
	for _, t := range f.Tables {
		if t.Find == FindLog {
			logs++
		}
	}
	if f.Freshness != "" {
		d, err := window.ParseDuration(f.Freshness)
		switch {
		case f.Freshness != Continuous && (err != nil || d <= 0):
			fault("freshness", "%q is not a freshness: write continuous, or a length of time as 1s, 15m or 1d.",
				f.Freshness)
		case logs == 0:
			fault("freshness", "freshness is for feeds that follow the log; write every or cron.")
		case logs == len(f.Tables) && (f.Every != "" || f.Cron != ""):
			fault("freshness", "Give freshness, or every or cron, not both: all tables follow the log.")
		case logs < len(f.Tables) && f.Every == "" && f.Cron == "":
			fault("freshness", "freshness is for the tables that follow the log; say with every or cron when the "+
				"others "+
				"are read.")
		}
	}
	if f.Retain == nil {
		return
	}
	if logs == 0 {
		fault("retain", "retain is for feeds that follow the log; remove it.")
	}
	for _, x := range []struct{ name, size string }{{"warn", f.Retain.Warn}, {"stop", f.Retain.Stop}} {
		if _, err := ParseSize(x.size); x.size != "" && err != nil {
			fault("retain."+x.name, "%q is not a size: write it as 500MB or 20GB.", x.size)
		}
	}
	if d, err := window.ParseDuration(f.Retain.Behind); f.Retain.Behind != "" && (err != nil || d < leastBehind ||
		d > MostBehind) {
		fault("retain.behind", "%q is not a length of time from 10 minutes to 7 days: write it as 6h or 1d.", f.Retain.Behind)
	}
}

// FollowsLog tells whether tables of the feed follow the change log, also where its patterns stand
// for none yet.
func (f *Feed) FollowsLog() bool {
	return f.followsLog || slices.ContainsFunc(f.Tables, func(t Table) bool { return t.Find == FindLog })
}

// Followers is the feed with those of its tables that follow the log, which advance together.
func (f *Feed) Followers() *Feed { return f.part(func(t Table) bool { return t.Find == FindLog }) }

// Others is the feed with those of its tables that do not follow the log.
func (f *Feed) Others() *Feed { return f.part(func(t Table) bool { return t.Find != FindLog }) }

// Running is the feed without its tables that are paused. It follows no log where all that would are paused.
func (f *Feed) Running() *Feed { return f.part(func(t Table) bool { return !t.Paused }) }

// Pause has tables paused, or go on. One that a pattern stands for gets an entry of its own.
func (f *Feed) Pause(resolved *Feed, tables []string, paused bool) error {
	f.Tables = slices.Clone(f.Tables)
	for _, name := range tables {
		t, ok := resolved.Table(name)
		if !ok {
			return problem.Newf(problem.NotFound, "Check the name against the feed's tables; write it as schema.table.",
				"The feed %s has no table %q.", f.Name, name)
		}
		i := slices.IndexFunc(f.Tables, func(x Table) bool { return x.Table == t.Table })
		if i < 0 {
			t.ofPattern = false
			i = len(f.Tables)
			f.Tables = append(f.Tables, t)
		}
		f.Tables[i].Paused = paused
	}
	return nil
}

func (f *Feed) part(has func(Table) bool) *Feed {
	out := *f
	out.Tables = slices.DeleteFunc(slices.Clone(f.Tables), func(t Table) bool { return !has(t) })
	return &out
}

// ParseSize reads a number of bytes, such as 500MB; units are powers of 1000.
func ParseSize(s string) (int64, error) {
	number, factor := s, int64(1)
	for i, unit := range []string{"kB", "MB", "GB", "TB"} {
		if rest, ok := strings.CutSuffix(s, unit); ok {
			number = rest
			for range i + 1 {
				factor *= 1000
			}
		}
	}
	n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
	if err != nil || n < 0 || n > math.MaxInt64/factor {
		return 0, fmt.Errorf("%q is not a size", s)
	}
	return n * factor, nil
}

// Levels gives the retained bytes from which on a feed is a risk, and from which on it
// is stopped; 0 is never.
func (f *Feed) Levels() (warn, stop int64) {
	warn = defaultWarn
	if f.Retain != nil {
		if n, err := ParseSize(f.Retain.Warn); err == nil {
			warn = n
		}
		stop, _ = ParseSize(f.Retain.Stop)
	}
	return warn, stop
}

// Fresh tells how long changes may be gathered before they are written; follow is false
// where the feed runs by every, cron or hand instead, and only catches up.
func (f *Feed) Fresh() (wait time.Duration, follow bool) {
	if f.Freshness == "" || !f.FollowsLog() {
		return 0, false
	}
	wait, _ = window.ParseDuration(f.Freshness)
	return wait, wait <= followUpTo
}

// ControlSchema holds positions, loads and rows set aside in a warehouse.
const ControlSchema = "noemata"

var (
	namePattern   = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	prefixPattern = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,15}$`)
)

// ValidName tells whether s can name a source, a warehouse or a feed.
func ValidName(s string) bool { return namePattern.MatchString(s) }

// CheckName tells what is wrong with the name of something, which is in the field that is called like it.
func CheckName(noun, name string, fault func(path, format string, args ...any)) {
	switch path := noun; {
	case name == "":
		fault(path, "A name is needed: write %s: and the name.", noun)
	case !ValidName(name):
		fault(path, "%q cannot be a name: use lower-case letters, digits and hyphens, beginning with a letter.", name)
	}
}

func (t *Table) check(at string, fault func(string, string, ...any)) {
	switch t.Find {
	case FindWatermark:
		if t.Watermark == nil || t.Watermark.Column == "" {
			fault(at+".watermark", "find is watermark, so the rising column must be named: watermark: {column: "+
				"updated_at}.")
		}
		if t.Keep == KeepReplace {
			fault(at+".keep", "keep: replace swaps the table whole, so it needs find: whole.")
		}
	case FindLog:
		if t.Watermark != nil {
			fault(at+".watermark", "find is log, so there is no watermark; remove it or write find: watermark.")
		}
		if t.Keep == KeepReplace {
			fault(at+".keep", "keep: replace swaps the table whole, so it needs find: whole.")
		}
	case FindWhole:
		if t.Watermark != nil {
			fault(at+".watermark", "find is whole, so there is no watermark; remove it or write find: watermark.")
		}
		if t.Keep == KeepLedger {
			fault(at+".keep", "find: whole reads the table anew each time and tells no single changes, so it cannot "+
				"fill a ledger: write replace, latest, soft-delete or history.")
		}
	case FindCompare:
		if t.Watermark != nil {
			fault(at+".watermark", "find is compare, so there is no watermark; remove it or write find: watermark.")
		}
		if t.Keep == KeepLedger || t.Keep == KeepReplace {
			fault(at+".keep", "find: compare tells which rows are other than before, so it keeps them by key: write "+
				"latest, soft-delete or history.")
		}
	default:
		fault(at+".find", "%q is not a way to find changes: write log, watermark, compare or whole.", t.Find)
	}
	switch t.Keep {
	case KeepLatest, KeepSoftDelete, KeepHistory, KeepLedger, KeepReplace:
	default:
		fault(at+".keep", "%q is not a way to keep rows: write latest, soft-delete, history, ledger or replace.",
			t.Keep)
	}
	for _, c := range t.Changes {
		if !slices.Contains([]string{"insert", "update", "delete", "truncate"}, c) {
			fault(at+".changes", "%q is not a kind of change: write insert, update, delete or truncate.", c)
		}
	}
	if len(t.Changes) > 0 && t.Find != FindLog {
		fault(at+".changes", "changes is for tables that follow the log; remove it.")
	}
	if t.Sweep != "" {
		d, err := window.ParseDuration(t.Sweep)
		switch {
		case err != nil || d <= 0:
			fault(at+".sweep", "%q is not a length of time: write it as 6h or 1d.", t.Sweep)
		case t.Find != FindWatermark || t.Keep == KeepLedger:
			fault(at+".sweep", "sweep finds deletes of tables that are found by watermark and kept by key; remove it.")
		}
	}
	t.checkShape(at, fault)
	t.checkPartition(at, fault)
	t.Drift.check(at+".drift", fault)
	if t.PageRows < 0 {
		fault(at+".page_rows", "page_rows must be 1 or more.")
	}
	if w := t.Watermark; w != nil {
		for _, d := range []struct{ name, value string }{{"settle", w.Settle}, {"wait", w.Wait}} {
			if parsed, err := window.ParseDuration(orDefault(d.value, "0s")); err != nil || parsed < 0 {
				fault(at+".watermark."+d.name, "%q is not a length of time: write it as 500ms, 5s or 2m.", d.value)
			}
		}
		if !w.LookBack.Measures() {
			fault(at+".watermark.look_back", "%q is neither a length of time, as 15m or 3d, nor a whole number.", w.LookBack)
		}
		if _, err := time.LoadLocation(w.Zone); err != nil {
			fault(at+".watermark.zone", "%q is not a time zone: write it as Europe/Berlin.", w.Zone)
		}
	}
}

// longestName is what every kind of warehouse has room for, in bytes.
const longestName = 63

// AsOf ends the name of the function that gives a history table as it was at a moment.
const AsOf = "_as_of"

// TargetOf names the target of one of the feed's tables. Names that come of a template are cut for every
// warehouse alike, so that a feed that moves to another one keeps them; those given as they are are not.
func (f *Feed) TargetOf(t Table) (schema.Name, error) {
	name, given, err := f.uncutTarget(t)
	if err != nil {
		return schema.Name{}, err
	}
	room := longestName
	if t.Keep == KeepHistory {
		room -= len(AsOf)
	}
	if !given.Schema {
		name.Schema = schema.Cut(name.Schema, longestName)
	}
	if !given.Table {
		name.Table = schema.Cut(name.Table, room)
	}
	return name, nil
}

// Uncut is the target's name before it was cut; ok is false where it was not.
func (f *Feed) Uncut(t Table) (uncut schema.Name, ok bool) {
	uncut, _, err := f.uncutTarget(t)
	name, cutErr := f.TargetOf(t)
	return uncut, err == nil && cutErr == nil && uncut != name
}

// given says which parts of a target's name were written by a person, as they are.
type given struct{ Schema, Table bool }

// uncutTarget names a target as its template has it, whatever its length.
func (f *Feed) uncutTarget(t Table) (schema.Name, given, error) {
	source, err := schema.ParseName(t.Table)
	if err != nil {
		return schema.Name{}, given{}, err
	}
	template := orDefault(t.Target, orDefault(f.Target, DefaultTarget))
	name, err := schema.ParseName(template)
	if err != nil {
		return schema.Name{}, given{}, err
	}
	fill := strings.NewReplacer("{source}", f.Source, "{schema}", source.Schema, "{table}", source.Table)
	filled := schema.Name{Schema: fill.Replace(name.Schema), Table: fill.Replace(name.Table)}
	if i := strings.IndexAny(filled.Schema+filled.Table, "{}"); i >= 0 {
		return schema.Name{}, given{}, fmt.Errorf(
			"%q is not a target: only {source}, {schema} and {table} can be filled in", template)
	}
	return filled, given{filled.Schema == name.Schema, filled.Table == name.Table}, nil
}

// Table finds a table of the feed by its name.
func (f *Feed) Table(name string) (Table, bool) {
	i := slices.IndexFunc(f.Tables, func(t Table) bool { return t.Table == name })
	if i < 0 {
		return Table{}, false
	}
	return f.Tables[i], true
}

// Column is the name of an added column, such as nm_run for "run".
func (f *Feed) Column(name string) string { return orDefault(f.Prefix, DefaultPrefix) + name }

// Next gives the start of the run after one that ended at the given time. A feed
// without a schedule runs only when asked; ok is then false.
func (f *Feed) Next(ended time.Time) (next time.Time, ok bool) {
	wait, follow := f.Fresh()
	if follow {
		return ended, true
	}
	next, ok = f.NextRead(ended)
	if at := ended.Add(wait / 2); wait > 0 && (!ok || at.Before(next)) {
		return at, true
	}
	return next, ok
}

// NextRead is Next by every or cron alone: when tables are read that do not follow the log.
func (f *Feed) NextRead(ended time.Time) (next time.Time, ok bool) { return f.times().Next(ended) }

func (f *Feed) times() clock.Times { return clock.Times{Every: f.Every, Cron: f.Cron, Zone: f.Zone} }

// ByCron lists the next times, so many of them, at which a feed runs by its cron, in its zone; none of
// one without.
func (f *Feed) ByCron(after time.Time, n int) (times []time.Time) {
	zone, err := time.LoadLocation(orDefault(f.Zone, "UTC"))
	if f.Cron == "" || err != nil {
		return nil
	}
	for at, ok := f.NextRead(after); ok && len(times) < n; at, ok = f.NextRead(at) {
		times = append(times, at.In(zone))
	}
	return times
}

// Times of a watermark, with their defaults.
func (w *Watermark) Times() (settle, wait time.Duration) {
	settle, _ = window.ParseDuration(orDefault(w.Settle, DefaultSettle))
	wait, _ = window.ParseDuration(orDefault(w.Wait, DefaultWait))
	return settle, wait
}

// Next says in words what the next run reads, from a position on.
func (t *Table) Next(position string) string {
	w := t.Watermark
	switch {
	case t.Paused:
		return "nothing: the table is paused"
	case t.Find == FindLog && position == "":
		return "a copy of the table, and what changed meanwhile"
	case t.Find == FindLog:
		return "every change that was committed after " + position
	case t.Find == FindCompare:
		return "digests of all rows, and the rows of those ranges that differ"
	case w == nil:
		return "the whole table"
	}
	from := "rows above " + position
	switch {
	case position != "" && w.LookBack != "" && w.LookBack != "0":
		from = fmt.Sprintf("rows above %s, less the look-back of %s", position, w.LookBack)
	case position == "" && w.Start == StartNow:
		return "nothing: the table begins at the present"
	case position == "" && w.Start != "" && w.Start != StartBeginning:
		from = "rows from " + w.Start + " on"
	case position == "":
		from = "all rows"
	}
	return fmt.Sprintf("%s, up to the source's clock less %s and below what open transactions may still write", from,
		orDefault(w.Settle, DefaultSettle))
}

// Page is how many rows one query reads at most.
func (t *Table) Page() int64 {
	if t.PageRows > 0 {
		return t.PageRows
	}
	return DefaultPageRows
}

func orDefault(s, d string) string {
	if s == "" {
		return d
	}
	return s
}

// Change is one difference between two feeds.
type Change = written.Change

// Diff lists what changes when the feed old becomes new. Tables are matched by name.
func Diff(old, new *Feed) []Change { return written.Diff(flatten(old), flatten(new)) }

func flatten(f *Feed) map[string]string {
	if f == nil {
		return nil
	}
	out := written.Flatten("", *f)
	for _, t := range f.Tables {
		maps.Copy(out, written.Flatten("tables["+t.Table+"]", t))
	}
	return out
}
