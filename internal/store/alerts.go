package store

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// Alone does something in one process at a time; where another is at it, nothing is done.
func (s *Store) Alone(ctx context.Context, what string, do func(context.Context) error) error {
	return s.Pool.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
		var mine bool
		if err := c.QueryRow(ctx, "SELECT pg_try_advisory_lock(hashtext('noemata'), hashtext($1))",
			what).Scan(&mine); err != nil || !mine {
			return err
		}
		defer func() {
			_, _ = c.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock(hashtext('noemata'), hashtext($1))", what)
		}()
		return do(ctx)
	})
}

// aboutChannel is what a channel's secret is sealed with: it can be had only for the place that it was given for.
func aboutChannel(c records.Channel) string {
	return fmt.Sprintf("channel %q %s %s %s:%d %s %s", c.Name, c.Way, c.URL, c.Host, c.Port, c.TLS, c.User)
}

// SaveChannel makes or changes a channel. A change without a secret keeps the one there is, as long as messages go
// where they went.
func (s *Store) SaveChannel(ctx context.Context, c records.Channel, replace bool) error {
	secret := c.Secret
	if replace {
		old, err := s.channel(ctx, c.Name)
		if err != nil {
			return err
		}
		if secret == "" && old.Secret != "" {
			if aboutChannel(old) != aboutChannel(c) {
				return problem.New(problem.Invalid, "The stored secret was given for another address or user, and is sent nowhere else.",
					"Give the secret again.").In("secret")
			}
			secret = old.Secret
		}
	}
	c.Secret, c.ToldAt, c.Problem = "", nil, nil
	sql := "INSERT INTO channels (name, settings, secret) VALUES ($1, $2, $3)"
	if replace {
		sql = "UPDATE channels SET settings = $2, secret = $3, problem = NULL WHERE name = $1"
	}
	_, err := s.Pool.Exec(ctx, sql, c.Name, jsonOf(&c), s.box.Seal(secret, aboutChannel(c)))
	if isUnique(err) {
		return problem.Newf(problem.Conflict, "Choose another name, or change the one there is.",
			"There is a channel %q already.",
			c.Name)
	}
	return err
}

// RemoveChannel forgets a channel.
func (s *Store) RemoveChannel(ctx context.Context, name string) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM channels WHERE name = $1", name)
	if err == nil && tag.RowsAffected() == 0 {
		return notFound(fmt.Sprintf("channel %q", name))
	}
	return err
}

func (s *Store) channels(ctx context.Context, name string) ([]records.Channel, error) {
	found, err := s.Pool.Query(ctx, "SELECT settings, secret, told_at, problem FROM channels WHERE $1 = '' OR name = $1 ORDER BY name",
		name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, func(row pgx.CollectableRow) (c records.Channel, err error) {
		var settings, sealed []byte
		var told *records.Problem
		if err := row.Scan(&settings, &sealed, &c.ToldAt, &told); err != nil {
			return c, err
		}
		at := c.ToldAt
		if err := json.Unmarshal(settings, &c); err != nil {
			return c, err
		}
		c.ToldAt, c.Problem = at, told
		c.Secret, err = s.box.Open(sealed, aboutChannel(c), fmt.Sprintf("channel %q", c.Name))
		return c, err
	})
}

func (s *Store) channel(ctx context.Context, name string) (records.Channel, error) {
	list, err := s.channels(ctx, name)
	if err == nil && len(list) == 0 {
		return records.Channel{}, notFound(fmt.Sprintf("channel %q", name))
	}
	if err != nil {
		return records.Channel{}, err
	}
	return list[0], nil
}

// ChannelsWithSecrets lists the channels as messages are sent by them.
func (s *Store) ChannelsWithSecrets(ctx context.Context) ([]records.Channel, error) {
	return s.channels(ctx, "")
}

// ChannelWithSecret gives a channel as messages are sent by it.
func (s *Store) ChannelWithSecret(ctx context.Context, name string) (records.Channel, error) {
	return s.channel(ctx, name)
}

// Channels lists the channels, without their secrets.
func (s *Store) Channels(ctx context.Context) ([]records.Channel, error) {
	list, err := s.channels(ctx, "")
	for i := range list {
		list[i].Secret = ""
	}
	return list, err
}

// Channel gives a channel, without its secret.
func (s *Store) Channel(ctx context.Context, name string) (records.Channel, error) {
	c, err := s.channel(ctx, name)
	c.Secret = ""
	return c, err
}

// KeepAlerts keeps what needs a person now: what is new begins, and what is not so any more has ended.
func (s *Store) KeepAlerts(ctx context.Context, list []records.Alert) error {
	var kinds, feeds, abouts, whats, remedies []string
	var lags []*float64
	for _, a := range list {
		kinds, feeds, abouts = append(kinds, a.Kind), append(feeds, a.Feed), append(abouts, plain(a.About))
		whats, remedies, lags = append(whats, plain(a.What)), append(remedies, plain(a.Remedy)), append(lags, a.Lag)
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO alerts AS a (kind, feed, about, what, remedy, lag_seconds)
SELECT DISTINCT ON (1, 2, 3) * FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::float8[])
ON CONFLICT (kind, feed, about) WHERE ended_at IS NULL DO UPDATE SET what = excluded.what, remedy = excluded.remedy,
  lag_seconds = excluded.lag_seconds
  WHERE (a.what, a.remedy) IS DISTINCT FROM (excluded.what, excluded.remedy)`,
			kinds, feeds, abouts, whats, remedies, lags); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE alerts a SET ended_at = now() WHERE ended_at IS NULL AND NOT EXISTS (
SELECT 1 FROM unnest($1::text[], $2::text[], $3::text[]) AS n (kind, feed, about)
WHERE n.kind = a.kind AND n.feed = a.feed AND n.about = a.about)`, kinds, feeds, abouts)
		return err
	})
}

const alertColumns = `a.id, a.kind, a.feed, a.about, a.what, a.remedy, a.lag_seconds, a.began_at, a.ended_at,
array(SELECT t.channel FROM tellings t WHERE t.alert_id = a.id AND NOT t.ended ORDER BY 1)`

func scanAlert(row pgx.CollectableRow) (a records.Alert, err error) {
	err = row.Scan(&a.ID, &a.Kind, &a.Feed, &a.About, &a.What, &a.Remedy, &a.Lag, &a.BeganAt, &a.EndedAt, &a.Told)
	return a, err
}

// Alerts lists what needs a person and, where all is set, what did: the newest first.
func (s *Store) Alerts(ctx context.Context, all bool, limit int) ([]records.Alert, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+alertColumns+` FROM alerts a WHERE $1 OR a.ended_at IS NULL
  ORDER BY a.id DESC LIMIT $2`,
		all, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, scanAlert)
}

// Untold lists what a channel was not told of yet: alerts that go on or, where over is set, those that have ended
// and that it was told of.
func (s *Store) Untold(ctx context.Context, channel string, over bool) ([]records.Alert, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+alertColumns+` FROM alerts a WHERE (a.ended_at IS NOT NULL) = $2
AND NOT EXISTS (SELECT 1 FROM tellings t WHERE t.alert_id = a.id AND t.channel = $1 AND t.ended = $2)
AND (NOT $2 OR EXISTS (SELECT 1 FROM tellings t WHERE t.alert_id = a.id AND t.channel = $1 AND NOT t.ended))
ORDER BY a.feed, a.kind, a.about LIMIT 5000`, channel, over)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, scanAlert)
}

// Told notes that a channel was told of alerts, or why it was not.
func (s *Store) Told(ctx context.Context, channel string, list []records.Alert, over bool, failure error) error {
	if failure != nil {
		_, err := s.Pool.Exec(ctx, "UPDATE channels SET problem = $2 WHERE name = $1", channel,
			jsonOf(records.NewProblem(failure)))
		return err
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		for _, a := range list {
			if _, err := tx.Exec(ctx, `INSERT INTO tellings (alert_id, channel, ended) SELECT $1, name, $3 FROM channels
  WHERE name = $2
ON CONFLICT DO NOTHING`, a.ID, channel, over); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "UPDATE channels SET told_at = now(), problem = NULL WHERE name = $1", channel)
		return err
	})
}
