package asking

import (
	"context"
	"io"
	"net/url"
	"path"
	"regexp"
	"strings"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/records"
	"noemata/internal/warehouse"
)

// partition reads month(lent_at).
var partition = regexp.MustCompile(`^(year|month|day)\((.+)\)$`)

// Manifest is the file that tells of the others.
const Manifest = "manifest.json"

// Export is a copy of tables that goes on: all of them as they were at one moment.
type Export struct {
	talk   *Conversation
	format Format
	by     *warehouse.Partition
	tables []schema.Table
	asked  records.Export
	done   records.Exported
}

// Export begins a copy of tables.
func (a *Asking) Export(ctx context.Context, asker Asker, name string, x records.Export) (*Export, error) {
	e := &Export{format: Format(x.Format), asked: x, done: records.Exported{Warehouse: name, AsOf: x.AsOf,
		Files: []records.ExportedFile{}}}
	if m := partition.FindStringSubmatch(x.PartitionBy); m != nil {
		e.by = &warehouse.Partition{Unit: m[1], Column: m[2]}
	}
	var err error
	if e.talk, err = a.Converse(ctx, asker, name); err != nil {
		return nil, err
	}
	if x.AsOf != nil {
		e.talk.AsOf(*x.AsOf)
	}
	e.done.At = time.Now().UTC()
	if err = e.talk.Begin(ctx); err == nil {
		err = e.choose(ctx, x.Tables)
	}
	if err != nil {
		e.talk.Close()
		return nil, err
	}
	return e, nil
}

// choose finds the tables that patterns name.
func (e *Export) choose(ctx context.Context, patterns []string) error {
	all, err := e.talk.tables(ctx)
	if err != nil {
		return err
	}
	fits := map[string]bool{}
	for _, t := range all {
		some := false
		for _, p := range patterns {
			ok, err := path.Match(p, t.Name.String())
			if err != nil {
				return problem.Newf(problem.Invalid, "Write it as live.* or live.loans.", "%q is no pattern.", p).In("tables")
			}
			if ok {
				fits[p], some = true, true
			}
		}
		if some {
			e.tables = append(e.tables, t)
		}
	}
	for _, p := range patterns {
		if !fits[p] {
			return problem.Newf(problem.NotFound, "noemata ask WAREHOUSE 'SHOW ALL TABLES' lists them.",
				"There is no table %s that you may ask.", p).In("tables")
		}
	}
	return nil
}

// Write writes the files, one after another: file begins each, and the last is manifest.json, which tells of them.
func (e *Export) Write(ctx context.Context, file func(name string) (io.Writer, error)) (records.Exported, error) {
	for _, t := range e.tables {
		pieces, err := e.talk.pieces(ctx, t, e.by)
		if err != nil {
			return e.done, err
		}
		for _, p := range pieces {
			name := path.Join(safe(t.Name.Schema), safe(t.Name.Table)+"."+string(e.format))
			if p.Name != "" {
				name = path.Join(safe(t.Name.Schema), safe(t.Name.Table), p.Name, "rows."+string(e.format))
			}
			if err := e.piece(ctx, t.Name, p, name, file); err != nil {
				return e.done, err
			}
		}
	}
	return e.done, nil
}

// safe is a name as a part of a path.
func safe(name string) string {
	name = url.PathEscape(name)
	if name == "." || name == ".." || name == "" {
		return "_" + name
	}
	return name
}

func (e *Export) piece(ctx context.Context, t schema.Name, p warehouse.Piece, name string, file func(string) (io.Writer,
	error)) error {
	done := records.ExportedFile{File: name, Schema: t.Schema, Table: t.Table}
	var err error
	if e.asked.Digests {
		if done.Digest, err = e.digest(ctx, p); err != nil {
			return err
		}
		done.Same = e.asked.Known[name] == done.Digest
	}
	if !done.Same {
		done.Rows, err = e.rows(ctx, p.SQL, name, file)
	}
	if err == nil {
		e.done.Files = append(e.done.Files, done)
	}
	return err
}

// rows writes the rows of a question, and tells how many there were.
func (e *Export) rows(ctx context.Context, sql, name string, file func(string) (io.Writer, error)) (int64, error) {
	a, err := e.ask(ctx, sql)
	if err != nil {
		return 0, err
	}
	defer a.Close()
	w, err := file(name)
	if err == nil {
		err = a.Write(w, e.format, 0)
	}
	return a.Rows(), err
}

func (e *Export) ask(ctx context.Context, sql string) (*Answer, error) {
	q, err := e.talk.Prepare(ctx, sql)
	if err != nil {
		return nil, err
	}
	return e.talk.Ask(ctx, q, nil)
}

// digest is a text that is another one when rows of a piece are others.
func (e *Export) digest(ctx context.Context, p warehouse.Piece) (string, error) {
	a, err := e.ask(ctx, p.Digest)
	if err != nil {
		return "", err
	}
	defer a.Close()
	record, err := a.Next()
	if err != nil {
		return "", err
	}
	return strings.Clone(record.Column(0).ValueStr(0)), nil // the record is gone with the answer
}

// Close ends the copy.
func (e *Export) Close() { e.talk.Close() }
