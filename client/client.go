package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// Client calls a service.
type Client struct {
	address string
	token   string
	http    *http.Client
}

// New makes a Client of the service at an address such as http://127.0.0.1:8420.
func New(address, token string) *Client {
	return &Client{address: strings.TrimSuffix(address, "/"), token: token,
		http: &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse // the token is for this address alone
		}}}
}

// Error is an answer of the service that is not a success.
type Error struct {
	Status int      `json:"status"`
	Code   string   `json:"code"`
	Detail string   `json:"detail"`
	Remedy string   `json:"remedy"`
	Errors []string `json:"errors"`

	Field string             `json:"field"` // the setting that is to be corrected
	Value string             `json:"value"` // what it may be set to, once a person has made sure of it
	Steps []connection.Taken `json:"steps"` // of a test: those that were taken
}

func (e *Error) Error() string {
	if e.Remedy == "" {
		return e.Detail
	}
	return e.Detail + " " + e.Remedy
}

// call sends one request and reads its answer into out, unless that is nil.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, body, out any) error {
	answer, err := c.send(ctx, method, path, query, body)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	if out == nil {
		_, err = io.Copy(io.Discard, answer.Body)
		return err
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return problem.Wrap(err, problem.Failed, fmt.Sprintf("The answer of %s cannot be read.", c.address),
			"Is it a Noemata service, and of the same version?")
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, query url.Values, body any) (*http.Response, error) {
	var content io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return nil, fmt.Errorf("write the request: %w", err)
		}
		content = bytes.NewReader(b)
	}
	address := c.address + "/api/v1" + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, address, content)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, fmt.Sprintf("The address %q cannot be used.", c.address),
			"Write it as http://127.0.0.1:8420.")
	}
	request.Header.Set("Authorization", "Bearer "+c.token)
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	answer, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var why *url.Error // repeats the address
		if errors.As(err, &why) {
			err = why.Err
		}
		return nil, problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("The service at %s cannot be reached: %v.", c.address, err),
			"Start it with noemata serve, or name another address with --address.")
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer func() { _ = answer.Body.Close() }()
	failure := &Error{Status: answer.StatusCode}
	text, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if json.Unmarshal(text, failure) != nil || failure.Detail == "" {
		failure.Detail = fmt.Sprintf("The service at %s answered %s.", c.address, answer.Status)
	}
	return nil, failure
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	err := c.call(ctx, http.MethodGet, path, query, nil, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, query url.Values, body any) (T, error) {
	var out T
	err := c.call(ctx, http.MethodPost, path, query, body, &out)
	return out, err
}

func at(parts ...string) string {
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return "/" + strings.Join(parts, "/")
}

func ofTable(table string) url.Values { return url.Values{"table": {table}} }

// About says what the service is.
func (c *Client) About(ctx context.Context) (About, error) { return get[About](ctx, c, "/about", nil) }

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	return get[[]Token](ctx, c, "/tokens", nil)
}

// AddToken makes a token; its Secret is in this answer only.
func (c *Client) AddToken(ctx context.Context, n NewToken) (Token, error) {
	return post[Token](ctx, c, "/tokens", nil, n)
}

// Alerts lists what needs a person and, with all, what did, the newest first.
func (c *Client) Alerts(ctx context.Context, all bool) ([]Alert, error) {
	return get[[]Alert](ctx, c, "/alerts", url.Values{"all": {strconv.FormatBool(all)}})
}

// Channels lists who is told of alerts, and how.
func (c *Client) Channels(ctx context.Context) ([]Channel, error) {
	return get[[]Channel](ctx, c, "/channels", nil)
}

// Channel shows a channel.
func (c *Client) Channel(ctx context.Context, name string) (Channel, error) {
	return get[Channel](ctx, c, at("channels", name), nil)
}

// AddChannel adds a channel.
func (c *Client) AddChannel(ctx context.Context, n Channel) (Channel, error) {
	return post[Channel](ctx, c, "/channels", nil, n)
}

// ChangeChannel changes a channel; without a secret the stored one stays, as long as messages go where they went.
func (c *Client) ChangeChannel(ctx context.Context, n Channel) (Channel, error) {
	var out Channel
	err := c.call(ctx, http.MethodPut, at("channels", n.Name), nil, n, &out)
	return out, err
}

// RemoveChannel removes a channel.
func (c *Client) RemoveChannel(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, at("channels", name), nil, nil, nil)
}

// TestChannel sends a message by a channel that says that it works.
func (c *Client) TestChannel(ctx context.Context, name string) (Channel, error) {
	return post[Channel](ctx, c, at("channels", name, "test"), nil, nil)
}

// Log gives what the runs of a feed have said, the last entry last.
func (c *Client) Log(ctx context.Context, feed string, f LogFilter) ([]LogEntry, error) {
	q := url.Values{}
	for name, value := range map[string]string{"table": f.Table, "level": f.Level, "text": f.Text} {
		if value != "" {
			q.Set(name, value)
		}
	}
	for name, n := range map[string]int64{"run": f.Run, "after": f.After, "before": f.Before, "limit": int64(f.Limit)} {
		if n != 0 {
			q.Set(name, strconv.FormatInt(n, 10))
		}
	}
	return get[[]LogEntry](ctx, c, at("feeds", feed, "log"), q)
}

// Volumes gives rows and bytes of a feed by table and day of UTC; of one table where it is named.
func (c *Client) Volumes(ctx context.Context, feed, table string, days int) ([]Volume, error) {
	return get[[]Volume](ctx, c, at("feeds", feed, "volumes"), url.Values{"table": {table}, "days": {strconv.Itoa(days)}})
}

// Burden tells what feeds cost a source.
func (c *Client) Burden(ctx context.Context, source string, days int) (Burden, error) {
	return get[Burden](ctx, c, at("sources", source, "burden"), url.Values{"days": {strconv.Itoa(days)}})
}

// Retention tells how long things are kept, and what room they take.
func (c *Client) Retention(ctx context.Context) ([]Retention, error) {
	return get[[]Retention](ctx, c, "/retention", nil)
}

// SetRetention says how long things of one kind are kept.
func (c *Client) SetRetention(ctx context.Context, what, keep string) (list []Retention, err error) {
	err = c.call(ctx, http.MethodPut, at("retention", what), nil, map[string]string{"keep": keep}, &list)
	return list, err
}

// Users lists the people who sign in by name.
func (c *Client) Users(ctx context.Context) ([]User, error) {
	return get[[]User](ctx, c, "/users", nil)
}

// AddUser makes a person who signs in by name and password.
func (c *Client) AddUser(ctx context.Context, n NewUser) (User, error) {
	return post[User](ctx, c, "/users", nil, n)
}

// ChangeUser changes what a person may do, or the password.
func (c *Client) ChangeUser(ctx context.Context, n NewUser) (u User, err error) {
	err = c.call(ctx, http.MethodPut, at("users", n.Name), nil, n, &u)
	return u, err
}

// RemoveUser removes a person; sign-ins end with it.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, at("users", name), nil, nil, nil)
}

// Processes lists the service's processes that share the work.
func (c *Client) Processes(ctx context.Context) ([]Process, error) {
	return get[[]Process](ctx, c, "/processes", nil)
}

// Places lists where the warehouses are that are files.
func (c *Client) Places(ctx context.Context) ([]Place, error) {
	return get[[]Place](ctx, c, "/places", nil)
}

// Drain has a process take up no more work, or work again.
func (c *Client) Drain(ctx context.Context, id string, drain bool) (Process, error) {
	act := "resume"
	if drain {
		act = "drain"
	}
	return post[Process](ctx, c, at("processes", id, act), nil, nil)
}

// Sessions lists the console's sign-ins that go on.
func (c *Client) Sessions(ctx context.Context) ([]Session, error) {
	return get[[]Session](ctx, c, "/sessions", nil)
}

// EndSession ends a sign-in of the console.
func (c *Client) EndSession(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, at("sessions", strconv.FormatInt(id, 10)), nil, nil, nil)
}

// ChangeFilter says which changes are listed; what is empty leaves none out.
type ChangeFilter struct {
	By, About string
	Before    int64 // only those before this one
	Limit     int   // 0 is as many as usual
}

// Changes lists what people and programs have changed, or were not let change, the newest first.
func (c *Client) Changes(ctx context.Context, f ChangeFilter) ([]ChangeMade, error) {
	q := asked(map[string]string{"by": f.By, "about": f.About})
	for name, n := range map[string]int64{"before": f.Before, "limit": int64(f.Limit)} {
		if n > 0 {
			q.Set(name, strconv.FormatInt(n, 10))
		}
	}
	return get[[]ChangeMade](ctx, c, "/changes", q)
}

// RemoveToken ends a token.
func (c *Client) RemoveToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, at("tokens", strconv.FormatInt(id, 10)), nil, nil, nil)
}

// Side is "sources" or "warehouses".
type Side string

// The two sides of a feed.
const (
	Sources    Side = "sources"
	Warehouses Side = "warehouses"
)

// Connections lists sources or warehouses.
func (c *Client) Connections(ctx context.Context, side Side) ([]Connection, error) {
	return c.ConnectionsOf(ctx, side, ConnectionFilter{})
}

// ConnectionFilter says which sources or warehouses are listed; what is empty leaves none out.
type ConnectionFilter struct {
	Owner, Team, Kind string
	Label             string // its name, or name=value
}

// ConnectionsOf lists the sources or the warehouses that a filter leaves.
func (c *Client) ConnectionsOf(ctx context.Context, side Side, f ConnectionFilter) ([]Connection, error) {
	return get[[]Connection](ctx, c, at(string(side)),
		asked(map[string]string{"owner": f.Owner, "team": f.Team, "label": f.Label, "kind": f.Kind}))
}

// Connection shows a source or a warehouse.
func (c *Client) Connection(ctx context.Context, side Side, name string) (Connection, error) {
	return get[Connection](ctx, c, at(string(side), name), nil)
}

// AddConnection adds a source or a warehouse.
func (c *Client) AddConnection(ctx context.Context, side Side, n NewConnection) (Connection, error) {
	return post[Connection](ctx, c, at(string(side)), nil, n)
}

// ChangeConnection replaces the settings of a source or a warehouse.
func (c *Client) ChangeConnection(ctx context.Context, side Side, n NewConnection) (Connection, error) {
	var out Connection
	err := c.call(ctx, http.MethodPut, at(string(side), n.Name), nil, n, &out)
	return out, err
}

// RemoveConnection removes a source or a warehouse that no feed uses.
func (c *Client) RemoveConnection(ctx context.Context, side Side, name string) error {
	return c.call(ctx, http.MethodDelete, at(string(side), name), nil, nil, nil)
}

// TryConnection tests settings; nothing is kept.
func (c *Client) TryConnection(ctx context.Context, side Side, n NewConnection) (Tested, error) {
	return post[Tested](ctx, c, at(string(side), "try"), nil, n)
}

// TestConnection signs in to a source or a warehouse.
func (c *Client) TestConnection(ctx context.Context, side Side, name string) (Tested, error) {
	return post[Tested](ctx, c, at(string(side), name, "test"), nil, nil)
}

// SourceTables lists a source's tables and views.
func (c *Client) SourceTables(ctx context.Context, source string) ([]SourceTable, error) {
	return get[[]SourceTable](ctx, c, at("sources", source, "tables"), nil)
}

// SourceTable shows a source's table with its columns.
func (c *Client) SourceTable(ctx context.Context, source, table string) (SourceTable, error) {
	return get[SourceTable](ctx, c, at("sources", source, "table"), ofTable(table))
}

// Feeds lists feeds with their tables.
func (c *Client) Feeds(ctx context.Context) ([]FeedStatus, error) {
	return c.FeedsOf(ctx, FeedFilter{})
}

// FeedFilter says which feeds are listed; what is empty leaves none out.
type FeedFilter struct {
	Owner, Team, Source, Warehouse, State string
	Label                                 string // its name, or name=value
}

// FeedsOf lists the feeds that a filter leaves.
func (c *Client) FeedsOf(ctx context.Context, f FeedFilter) ([]FeedStatus, error) {
	return get[[]FeedStatus](ctx, c, "/feeds", f.asked())
}

func (f FeedFilter) asked() url.Values {
	return asked(map[string]string{"owner": f.Owner, "team": f.Team, "label": f.Label, "source": f.Source,
		"warehouse": f.Warehouse, "state": f.State})
}

// Overview tells what needs a person, and how each feed that a filter leaves is doing.
func (c *Client) Overview(ctx context.Context, f FeedFilter) (Overview, error) {
	return get[Overview](ctx, c, "/overview", f.asked())
}

// asked is a query of what is not empty.
func asked(values map[string]string) url.Values {
	query := url.Values{}
	for name, value := range values {
		if value != "" {
			query.Set(name, value)
		}
	}
	return query
}

// Feed shows a feed with its tables.
func (c *Client) Feed(ctx context.Context, name string) (FeedStatus, error) {
	return get[FeedStatus](ctx, c, at("feeds", name), nil)
}

// FileMode is what is done with a feed file.
type FileMode string

// Apply changes the feed; Check tells changes and findings; Compare tells changes
// without asking source and warehouse.
const (
	Apply   FileMode = "apply"
	Check   FileMode = "check"
	Compare FileMode = "compare"
)

// FeedFile checks, compares or applies a feed file.
func (c *Client) FeedFile(ctx context.Context, file string, mode FileMode) (Applied, error) {
	return post[Applied](ctx, c, "/feed-files", nil,
		map[string]any{"file": file, "dry_run": mode != Apply, "offline": mode == Compare})
}

// Mend has remedies of a feed file's findings run.
func (c *Client) Mend(ctx context.Context, m Mending) (Mended, error) {
	return post[Mended](ctx, c, "/mendings", nil, m)
}

// Privileges gives the statements that make users with just what a feed file needs.
func (c *Client) Privileges(ctx context.Context, asked PrivilegesAsked) (Privileges, error) {
	return post[Privileges](ctx, c, "/privileges", nil, asked)
}

// Revisions lists what a feed's file has said, the newest first.
func (c *Client) Revisions(ctx context.Context, feed string) ([]Revision, error) {
	return get[[]Revision](ctx, c, at("feeds", feed, "revisions"), nil)
}

// Revision is a feed's file as it was then.
func (c *Client) Revision(ctx context.Context, feed string, revision int64) (string, error) {
	x, err := get[struct{ File string }](ctx, c, at("feeds", feed, "revisions", strconv.FormatInt(revision, 10)), nil)
	return x.File, err
}

// Propose asks how tables of a source may be brought. tables are names or patterns; except leaves some
// of the latter out. A feed without a name is called after both.
func (c *Client) Propose(ctx context.Context, feed, source, warehouse string, tables, except []string) (Proposed,
	error) {
	body := map[string]any{"source": source, "warehouse": warehouse, "tables": tables, "except": except}
	if feed != "" {
		body["feed"] = feed
	}
	return post[Proposed](ctx, c, "/proposals", nil, body)
}

// Preview shows rows of a table before and after a feed file has shaped them.
func (c *Client) Preview(ctx context.Context, file, table string, rows int) (Preview, error) {
	return post[Preview](ctx, c, "/previews", nil, map[string]any{"file": file, "table": table, "rows": rows})
}

// Drifts lists what has changed of the structure of a feed's tables, the newest first.
func (c *Client) Drifts(ctx context.Context, feed string) ([]Drift, error) {
	return get[[]Drift](ctx, c, at("feeds", feed, "drifts"), nil)
}

// HashKeys lists the keys that columns are hashed with.
func (c *Client) HashKeys(ctx context.Context) ([]HashKey, error) {
	return get[[]HashKey](ctx, c, "/hash-keys", nil)
}

// ExportHashKey gives a key that columns are hashed with, in hexadecimal digits.
func (c *Client) ExportHashKey(ctx context.Context, name string) (string, error) {
	out, err := get[struct{ Key string }](ctx, c, at("hash-keys", name), nil)
	return out.Key, err
}

// ImportHashKey keeps a key that was made elsewhere.
func (c *Client) ImportHashKey(ctx context.Context, name, key string) error {
	return c.call(ctx, http.MethodPut, at("hash-keys", name), nil, map[string]string{"key": key}, nil)
}

// ExportFeed gives a feed as a feed file.
func (c *Client) ExportFeed(ctx context.Context, name string) (string, error) {
	out, err := get[struct{ File string }](ctx, c, at("feeds", name, "file"), nil)
	return out.File, err
}

// StartFeed lets a feed run on its schedule.
func (c *Client) StartFeed(ctx context.Context, name string) (FeedStatus, error) {
	return post[FeedStatus](ctx, c, at("feeds", name, "start"), nil, nil)
}

// PauseTables has tables of a feed wait, or go on.
func (c *Client) PauseTables(ctx context.Context, feed string, tables []string, paused bool) (FeedStatus, error) {
	return post[FeedStatus](ctx, c, at("feeds", feed, "pauses"), nil, map[string]any{"tables": tables, "paused": paused})
}

// PauseFeed keeps a feed from running on its schedule.
func (c *Client) PauseFeed(ctx context.Context, name string) (FeedStatus, error) {
	return post[FeedStatus](ctx, c, at("feeds", name, "pause"), nil, nil)
}

// RemoveFeed removes a feed; the warehouse's tables and positions stay.
func (c *Client) RemoveFeed(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, at("feeds", name), nil, nil, nil)
}

// Sample gives the newest rows of a table on both sides.
func (c *Client) Sample(ctx context.Context, feed, table string) (Sample, error) {
	return get[Sample](ctx, c, at("feeds", feed, "sample"), ofTable(table))
}

// Counts counts a table's rows on both sides.
func (c *Client) Counts(ctx context.Context, feed, table string) (Counts, error) {
	return get[Counts](ctx, c, at("feeds", feed, "counts"), ofTable(table))
}

// StartProof has every value of a table's rows compared on both sides; with repair, rows that differ are
// brought to what the source has. Since says from which value of the watermark on, or how far back from where the
// table stands; empty is all rows.
func (c *Client) StartProof(ctx context.Context, feed, table string, repair bool, since string) (Proving, error) {
	return post[Proving](ctx, c, at("feeds", feed, "proofs"), ofTable(table),
		map[string]any{"repair": repair, "since": since})
}

// Proving shows a proof or a repair.
func (c *Client) Proving(ctx context.Context, id int64) (Proving, error) {
	return get[Proving](ctx, c, at("proofs", fmt.Sprint(id)), nil)
}

// Provings lists a feed's proofs and repairs, the newest first; those of one table where it is named.
func (c *Client) Provings(ctx context.Context, feed, table string) ([]Proving, error) {
	return get[[]Proving](ctx, c, at("feeds", feed, "proofs"), asked(map[string]string{"table": table}))
}

// StopProving ends a proof or a repair.
func (c *Client) StopProving(ctx context.Context, id int64) (Proving, error) {
	return post[Proving](ctx, c, at("proofs", fmt.Sprint(id), "stop"), nil, nil)
}

// AwaitProving waits until a proof or a repair has ended, and tells how it goes. One that failed is the
// error that it failed with.
func (c *Client) AwaitProving(ctx context.Context, id int64, tell func(Proving)) (Proving, error) {
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		p, err := c.Proving(ctx, id)
		switch {
		case err != nil:
			return p, err
		case p.State == "failed":
			return p, &Error{Status: http.StatusConflict, Code: p.Problem.Code, Detail: p.Problem.What, Remedy: p.Problem.Remedy}
		case p.State == "stopped":
			return p, &Error{Status: http.StatusConflict, Code: string(problem.Stopped),
				Detail: fmt.Sprintf("Proof %d of %s was stopped before its end.", p.ID, p.Table), Remedy: "Ask for another one."}
		case p.Ended():
			return p, nil
		}
		tell(p)
		select {
		case <-ctx.Done():
			return p, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Prove compares every value of a table's rows on both sides, and waits for the proof.
func (c *Client) Prove(ctx context.Context, feed, table string) (Proof, error) {
	p, err := c.StartProof(ctx, feed, table, false, "")
	if err == nil {
		p, err = c.AwaitProving(ctx, p.ID, func(Proving) {})
	}
	if err != nil {
		return Proof{}, err
	}
	return *p.Proof, nil
}

// Repair brings the rows of a table that differ to what the source has, and waits for it.
func (c *Client) Repair(ctx context.Context, feed, table string) (Proving, error) {
	p, err := c.StartProof(ctx, feed, table, true, "")
	if err != nil {
		return p, err
	}
	return c.AwaitProving(ctx, p.ID, func(Proving) {})
}

// CopyAgain has tables of a feed that follows the log copied anew; all where none is named.
func (c *Client) CopyAgain(ctx context.Context, feed string, tables []string) error {
	return c.call(ctx, http.MethodPost, at("feeds", feed, "copies"), nil, map[string]any{"tables": tables}, nil)
}

// LogSamples gives how a feed was doing over the last hours.
func (c *Client) LogSamples(ctx context.Context, feed string, hours float64) ([]LogSample, error) {
	return get[[]LogSample](ctx, c, at("feeds", feed, "samples"),
		url.Values{"hours": {strconv.FormatFloat(hours, 'f', -1, 64)}})
}

// Versions gives the versions of one row of a history.
func (c *Client) Versions(ctx context.Context, feed, table string, key []string) (Versions, error) {
	return get[Versions](ctx, c, at("feeds", feed, "versions"), url.Values{"table": {table}, "key": key})
}

// Positions lists the positions of a feed's tables.
func (c *Client) Positions(ctx context.Context, feed string) ([]Checkpoint, error) {
	return get[[]Checkpoint](ctx, c, at("feeds", feed, "positions"), nil)
}

// SetPosition sets a table's position.
func (c *Client) SetPosition(ctx context.Context, feed, table string, m Move) (Checkpoint, error) {
	var out Checkpoint
	err := c.call(ctx, http.MethodPut, at("feeds", feed, "positions"), ofTable(table), m, &out)
	return out, err
}

// ClearPosition clears a table's position.
func (c *Client) ClearPosition(ctx context.Context, feed, table string) (Checkpoint, error) {
	var out Checkpoint
	err := c.call(ctx, http.MethodDelete, at("feeds", feed, "positions"), ofTable(table), nil, &out)
	return out, err
}

// StartBackfill has a range of a table read again in slices.
func (c *Client) StartBackfill(ctx context.Context, feed, table string, r BackfillRange) (Backfill, error) {
	return post[Backfill](ctx, c, at("feeds", feed, "backfills"), ofTable(table), r)
}

// Backfills lists a feed's backfills, the newest first.
func (c *Client) Backfills(ctx context.Context, feed string) ([]Backfill, error) {
	return get[[]Backfill](ctx, c, at("feeds", feed, "backfills"), nil)
}

// Backfill shows one.
func (c *Client) Backfill(ctx context.Context, id int64) (Backfill, error) {
	return get[Backfill](ctx, c, at("backfills", strconv.FormatInt(id, 10)), nil)
}

// SetBackfill has a backfill "pause", "resume" or "stop".
func (c *Client) SetBackfill(ctx context.Context, id int64, verb string) (Backfill, error) {
	return post[Backfill](ctx, c, at("backfills", strconv.FormatInt(id, 10), verb), nil, nil)
}

// StartRun runs a feed now; the run may wait for one that goes on.
func (c *Client) StartRun(ctx context.Context, feed string) (Run, error) {
	return post[Run](ctx, c, at("feeds", feed, "runs"), nil, nil)
}

// StopRun has a run end that is queued or goes on; what it has committed stays.
func (c *Client) StopRun(ctx context.Context, id int64) (Run, error) {
	return post[Run](ctx, c, at("runs", strconv.FormatInt(id, 10), "stop"), nil, nil)
}

// RunFilter chooses runs; zero fields choose all.
type RunFilter struct {
	Feed    string
	Table   string
	Before  int64
	Limit   int
	Changed bool // only runs that read rows or did not succeed
}

// Runs lists runs, the newest first.
func (c *Client) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	q := url.Values{}
	if f.Feed != "" {
		q.Set("feed", f.Feed)
	}
	if f.Table != "" {
		q.Set("table", f.Table)
	}
	if f.Before > 0 {
		q.Set("before", strconv.FormatInt(f.Before, 10))
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	if f.Changed {
		q.Set("changed", "true")
	}
	return get[[]Run](ctx, c, "/runs", q)
}

// Run shows a run with its tables.
func (c *Client) Run(ctx context.Context, id int64) (Run, error) {
	return get[Run](ctx, c, at("runs", strconv.FormatInt(id, 10)), nil)
}

// pageOfStatements is how many statements are asked for at once.
const pageOfStatements = 1000

// Statements lists every statement of a run.
func (c *Client) Statements(ctx context.Context, id int64, table string) ([]Statement, error) {
	q := url.Values{"limit": {strconv.Itoa(pageOfStatements)}}
	if table != "" {
		q.Set("table", table)
	}
	all := []Statement{}
	for {
		page, err := get[[]Statement](ctx, c, at("runs", strconv.FormatInt(id, 10), "statements"), q)
		all = append(all, page...)
		if err != nil || len(page) < pageOfStatements {
			return all, err
		}
		q.Set("after", strconv.FormatInt(page[len(page)-1].ID, 10))
	}
}

// Events passes on what happens until the context ends or heard returns an error.
func (c *Client) Events(ctx context.Context, heard func(Event) error) error {
	answer, err := c.send(ctx, http.MethodGet, "/events", nil, nil)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	lines := bufio.NewScanner(answer.Body)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var event Event
		if err := json.Unmarshal([]byte(data), &event); err != nil {
			return fmt.Errorf("read an event: %w", err)
		}
		if err := heard(event); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return errors.Join(lines.Err(), problem.New(problem.Unreachable, "The service ended the stream of events.",
		"It may have been stopped; try again."))
}

// Ask asks a warehouse, and keeps the answer.
func (c *Client) Ask(ctx context.Context, warehouse string, q Ask) (Answer, error) {
	q.Format = "rows"
	return post[Answer](ctx, c, at("warehouses", warehouse, "questions"), nil, q)
}

// AskInto asks a warehouse, and writes the answer as it comes, in the format that the question says. An answer that
// breaks off is an error.
func (c *Client) AskInto(ctx context.Context, warehouse string, q Ask, w io.Writer) error {
	answer, err := c.send(ctx, http.MethodPost, at("warehouses", warehouse, "questions"), nil, q)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	if _, err := io.Copy(w, answer.Body); err != nil {
		return problem.Wrap(err, problem.Failed, "The answer broke off: "+err.Error()+".",
			"What was written is not all of it. Why is said by noemata questions list")
	}
	return nil
}

// Askable lists the warehouses that may be asked, with their tables.
func (c *Client) Askable(ctx context.Context) ([]Askable, error) {
	return get[[]Askable](ctx, c, "/askable", nil)
}

// QuestionFilter says which questions are listed; what is empty leaves none out.
type QuestionFilter struct {
	By, Warehouse, State string
	Before               int64 // only those before the one of this number
	Limit                int
}

// Questions lists what warehouses were asked, the newest first.
func (c *Client) Questions(ctx context.Context, f QuestionFilter) ([]Question, error) {
	q := asked(map[string]string{"by": f.By, "warehouse": f.Warehouse, "state": f.State})
	for name, n := range map[string]int64{"before": f.Before, "limit": int64(f.Limit)} {
		if n > 0 {
			q.Set(name, strconv.FormatInt(n, 10))
		}
	}
	return get[[]Question](ctx, c, "/questions", q)
}

// StopQuestion stops a question that is being answered.
func (c *Client) StopQuestion(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodPost, at("questions", strconv.FormatInt(id, 10), "stop"), nil, nil, nil)
}

// SavedQuestions lists the questions that people share.
func (c *Client) SavedQuestions(ctx context.Context) ([]SavedQuestion, error) {
	return get[[]SavedQuestion](ctx, c, "/saved-questions", nil)
}

// SaveQuestion shares a question by a name, or changes one's own.
func (c *Client) SaveQuestion(ctx context.Context, name, warehouse, sql string) error {
	return c.call(ctx, http.MethodPut, at("saved-questions", name), nil,
		map[string]string{"warehouse": warehouse, "sql": sql}, nil)
}

// RemoveSavedQuestion removes one.
func (c *Client) RemoveSavedQuestion(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, at("saved-questions", name), nil, nil, nil)
}

// Export copies tables of a warehouse out, as one cut: into takes each file's name and content, the last one's
// manifest.json. Without that it is not whole, and an error.
func (c *Client) Export(ctx context.Context, warehouse string, x Export, into func(name string,
	content io.Reader) error) (
	Exported, error) {
	var done Exported
	answer, err := c.send(ctx, http.MethodPost, at("warehouses", warehouse, "exports"), nil, x)
	if err != nil {
		return done, err
	}
	defer func() { _ = answer.Body.Close() }()
	_, params, err := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	if err != nil {
		return done, fmt.Errorf("read the export: %w", err)
	}
	parts := multipart.NewReader(answer.Body, params["boundary"])
	whole := false
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) && whole {
			return done, nil
		}
		var content io.Reader = part
		var name string
		if err == nil {
			var disposition map[string]string
			_, disposition, err = mime.ParseMediaType(part.Header.Get("Content-Disposition"))
			name = disposition["filename"]
		}
		if err == nil && name == "manifest.json" {
			var text []byte
			if text, err = io.ReadAll(io.LimitReader(part, 64<<20)); err == nil {
				err, whole, content = json.Unmarshal(text, &done), true, bytes.NewReader(text)
			}
		}
		if err == nil {
			err = into(name, content)
		}
		if err != nil {
			return done, problem.Wrap(err, problem.Failed, "The export broke off: "+err.Error()+".",
				"Nothing of it is to be used. Why is said by noemata questions list")
		}
	}
}
