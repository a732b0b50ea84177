package postgres

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/source"
)

// The log is kept for longer than a follower needs it by a second slot, which nobody reads and which is moved on at a
// distance. A slot does not go back (PostgreSQL, Replication Management Functions), so where the log is to be read
// again, the follower's slot is made anew as a copy of that one.

// behindOf names the slot that stays behind a follower's.
func behindOf(name string) string { return name + "_behind" }

// slot is what the server tells of one.
type slot struct {
	confirmed string // empty while it is being made
	lost      bool   // the server has removed log that it needed
}

// keeps tells whether the log can be read from a position on; nil, where there is no slot, cannot.
func (x *slot) keeps(position string) bool {
	return x != nil && !x.lost && x.confirmed != "" && x.confirmed <= position
}

// slots are those of a follower, by name.
func (s *Source) slots(ctx context.Context, name string) (map[string]*slot, error) {
	found := map[string]*slot{}
	var of, confirmed, status string
	err := s.Each(ctx, "SELECT slot_name::text, coalesce(confirmed_flush_lsn::text, ''), coalesce(wal_status, '') FROM "+
		"pg_replication_slots WHERE slot_name IN ($1, $2)", []any{name, behindOf(name)}, []any{&of, &confirmed, &status},
		func() (err error) {
			x := &slot{lost: status == "lost"}
			if confirmed != "" {
				x.confirmed, err = s.CheckPosition(confirmed)
			}
			found[of] = x
			return err
		})
	return found, err
}

// copySlot makes a slot that begins where another one stands, in place of the one of its name.
func (s *Source) copySlot(ctx context.Context, from, to string) (*slot, error) {
	if err := s.dropSlot(ctx, to); err != nil {
		return nil, err
	}
	if err := s.freeSlot(ctx); err != nil {
		return nil, err
	}
	if err := s.write(ctx, "SELECT pg_copy_logical_replication_slot($1, $2)", []any{from, to}); err != nil {
		return nil, err
	}
	made, err := s.slots(ctx, to)
	if err == nil && made[to] == nil {
		err = problem.Newf(problem.Overtaken, "Nothing was lost; the next run tries again.",
			"Somebody has dropped the replication slot %s of %s as it was made.", to, s.what)
	}
	return made[to], err
}

// advanceWithin is how long the server may take to read the log that a slot leaves behind. It remembers how far it
// came.
const advanceWithin = 20 * time.Second

// keepBehind makes the slot that stays behind, moves it on, or drops it, as the feed wants it. behind is what there is.
func (s *Source) keepBehind(ctx context.Context, p source.Prepared, behind *slot) error {
	name := behindOf(p.Name)
	switch {
	case !p.Behind && behind == nil:
		return nil
	case !p.Behind:
		return s.dropSlot(ctx, name)
	case behind == nil || behind.lost:
		_, err := s.copySlot(ctx, p.Name, name)
		return err
	case p.Since == "" || p.Since <= behind.confirmed:
		return nil
	}
	to, err := parseLSN(p.Since)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, advanceWithin)
	defer cancel()
	err = s.write(limited, "SELECT pg_replication_slot_advance($1, $2::text::pg_lsn)", []any{name,
		fmt.Sprintf("%X/%X", uint32(to>>32), uint32(to))})
	if err != nil && ctx.Err() == nil { // it keeps more than it need, which is shown, and told where it passes a bound
		slog.Warn("A replication slot that stays behind could not be moved on; trying again with the next run.",
			"source", s.what, "slot", name, "error", err)
		return nil
	}
	return err
}

// dropSlot drops a slot that may be there. One that is in use is waited for.
func (s *Source) dropSlot(ctx context.Context, name string) error {
	for attempt := 0; ; attempt++ {
		var n int
		err := s.write(ctx, "SELECT count(pg_drop_replication_slot(slot_name)) FROM pg_replication_slots WHERE "+
			"slot_name = $1", []any{name}, &n)
		if err == nil || attempt == 50 || !strings.Contains(err.Error(), "is active") {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// BehindFindings looks whether there is a slot for it.
func (s *Source) BehindFindings(ctx context.Context, _ time.Duration) ([]problem.Finding, error) {
	used, most, err := s.slotsTaken(ctx)
	if err != nil || used+1 < most {
		return nil, err
	}
	return []problem.Finding{{Level: problem.Warning,
		Remedy: fmt.Sprintf("ALTER SYSTEM SET max_replication_slots = %d; then restart the server.", most+10),
		What:   fmt.Sprintf("The feed takes two replication slots, and %d of the server's %d are taken.", used, most)}}, nil
}
