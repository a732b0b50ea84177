package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/statement"
)

// Columns that are chosen later are given to rows of before by their key, hashed, masked, taken and computed
// ones, too; nothing else is read again, and a history gets no versions by it.
func TestColumnsThatAreChosenLater(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory} {
			name := "readers_" + strings.ReplaceAll(string(keep), "-", "_")
			b.feed.Name = name
			b.exec(`CREATE TABLE ` + name + ` (id int, branch text, kind text, email text, fee numeric(8,2), doc jsonb,
				at timestamptz NOT NULL DEFAULT now(), PRIMARY KEY (id, branch));
				INSERT INTO ` + name + ` SELECT n, 'Grünau', 'adult', nullif('r' || n || '@post.example', 'r7@post.example'), n % 5,
				json_build_object('city', 'Dornheim', 'floor', n % 3) FROM generate_series(1, 500) n`)
			readers := feed.Table{Table: "public." + name, Find: feed.FindWatermark, Keep: keep, Target: "kept." + name,
				Drop: []string{"email", "fee", "doc"}, Where: "id > 10",
				Watermark: &feed.Watermark{Column: "at", Settle: "0s"}}
			require.EqualValues(t, 490, b.bring(readers).Books.Inserted)
			b.exec(`UPDATE ` + name + ` SET kind = 'child', at = now() WHERE id <= 20; DELETE FROM ` + name + ` WHERE id = 30;
				UPDATE ` + name + ` SET fee = 'NaN' WHERE id = 40`)

			more := readers
			more.Drop = []string{"fee"}
			more.Columns = map[string]feed.Treatment{"email": {Hash: "people", Name: "mail"},
				"doc": {Take: map[string]feed.Path{"city": {Path: "$.city"}, "floor": {Path: "$.floor", Type: "int32"}}}}
			more.Computed = map[string]feed.Computed{"where": {Value: `branch + "!"`}}
			out := b.bring(more)
			require.Equal(t, rows.Books{Read: 20, Filtered: 10, Updated: 10}, fullUpdates(out.Books), "%v", out.Notes)
			require.Contains(t, strings.Join(out.Notes, " "), "by key: 479 rows.", keep)
			b.proved(more, 489)
			out = b.bring(more)
			require.Zero(t, out.Books)
			require.Empty(t, out.Notes)

			// One is taken out, changes meanwhile, and is chosen again: the target still has it, of before.
			more.Columns["email"] = feed.Treatment{Drop: true}
			b.exec(`UPDATE ` + name + ` SET email = 'other@post.example' WHERE id = 50`)
			require.Empty(t, b.bring(more).Books)
			more.Columns["email"] = feed.Treatment{Hash: "people", Name: "mail"}
			require.Contains(t, strings.Join(b.bring(more).Notes, " "), "by key: 1 row.")
			b.proved(more, 489)

			// What cannot be stored is set aside.
			more.Drop = nil
			require.Contains(t, strings.Join(b.bring(more).Notes, " "), "by key: 488 rows.")
			require.Equal(t, [][]string{{`["40","Grünau"]`}}, b.rowsOf("noemata.set_aside", column("key", schema.Text)))
			b.exec(`UPDATE ` + name + ` SET fee = 1, at = now() WHERE id = 40`)
			b.bring(more)
			b.proved(more, 489)
			require.Empty(t, b.rowsOf("noemata.set_aside", column("key", schema.Text)))

			// What is made otherwise is not.
			more.Columns["email"] = feed.Treatment{Mask: feed.MaskKeepFirst, Count: 1, Name: "mail"}
			err := b.bringBy(more)
			require.ErrorContains(t, err, "noemata positions clear", keep)
		}
	})
}

// fullUpdates counts the versions that a history gets as updates.
func fullUpdates(b rows.Books) rows.Books {
	b.Updated, b.Inserted = b.Updated+b.Inserted, 0
	return b
}

// proved proves a table, rows aside that a watermark cannot tell have gone.
func (b *workbench) proved(table feed.Table, n int64) {
	b.t.Helper()
	proof, err := engine.Prove(b.t.Context(), b.work(table))
	require.NoError(b.t, err)
	require.Zero(b.t, proof.Differing+proof.Missing, "%+v", proof)
	require.Equal(b.t, n, proof.Equal, "%+v", proof)
}

// A run that dies before the columns are filled leaves it to the next; one that is held for another reason,
// too. Without a key that tells rows apart, they are read again.
func TestWhatIsLeftToFill(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE books (id int NOT NULL, title text, shelf text, at timestamptz NOT NULL DEFAULT now());
			INSERT INTO books SELECT n, 'T' || n, 'S' || n FROM generate_series(1, 50) n`)
		books := feed.Table{Table: "public.books", Find: feed.FindWatermark, Keep: feed.KeepLatest, Key: []string{"id"},
			Drop: []string{"shelf"}, Watermark: &feed.Watermark{Column: "at", Settle: "0s"}}
		b.bring(books)
		books.Drop = nil
		require.EqualValues(t, 50, b.bring(books).Books.Read)
		b.equal(books, 50)

		b.exec(`ALTER TABLE books ADD UNIQUE (id), ADD COLUMN place text DEFAULT 'here'`)
		books.Drift = &feed.Drift{Columns: "follow"}
		b.exec("UPDATE books SET at = now() WHERE id = 3")
		ctx, die := context.WithCancel(t.Context())
		_, err := b.engine.Run(statement.With(ctx, func(s statement.Statement) {
			if strings.HasPrefix(s.SQL, "COPY") && strings.Contains(s.SQL, "place") && !strings.Contains(s.SQL, "title") {
				die()
			}
		}), b.work(books))
		require.Error(t, err)
		out := b.bring(books)
		require.Zero(t, out.Books)
		require.Contains(t, strings.Join(out.Notes, " "), "by key: 49 rows.")
		b.equal(books, 50)
	})
}

// Columns are chosen and left out again while rows change and the feed is killed: rows of before have them
// by key, and what the log told in the meantime counts.
func TestColumnsThatAreChosenWhileTheLogIsFollowed(t *testing.T) {
	raceless(t)
	rounds := 12
	if os.Getenv("NOEMATA_TORTURE") != "" {
		rounds = 150
	}
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE readers (id int PRIMARY KEY, kind text, email text, note text, floor int, fee numeric(8,2));
			ALTER TABLE readers ALTER note SET STORAGE EXTERNAL`)
		pool, err := pgxpool.New(t.Context(), b.conn.Config().ConnString())
		require.NoError(t, err)
		defer pool.Close()
		columnsAtRandom(t, b, rounds, "public", func(ctx context.Context, sql string) error {
			_, err := pool.Exec(ctx, sql)
			return err
		})
	})
	onEachCatalogue(t, func(t *testing.T, b *mariaBench, _ bool) {
		b.exec(`CREATE TABLE readers (id int PRIMARY KEY, kind varchar(9), email varchar(60), note text, floor int, ` +
			`fee decimal(8,2))`)
		columnsAtRandom(t, b.workbench, rounds, b.settings.Database, func(ctx context.Context, sql string) error {
			_, err := b.db.ExecContext(ctx, sql)
			return err
		})
	})
}

func columnsAtRandom(t *testing.T, b *workbench, rounds int, of string, exec func(context.Context, string) error) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 7))
	ctx := t.Context()
	for n := range 400 {
		require.NoError(t, exec(ctx, fmt.Sprintf("INSERT INTO readers VALUES (%d, 'adult', 'r%d@post.example', '%s', %d, %d)", n, n,
			strings.Repeat("x", 2500), n%7, n%90)))
	}
	readers := func(keep feed.Keep) feed.Table {
		x := feed.Table{Table: of + ".readers", Keep: keep,
			Target: "kept.readers_" + strings.ReplaceAll(string(keep), "-", "_"),
			Where:  "id >= 5", Columns: map[string]feed.Treatment{}}
		for _, column := range []string{"email", "note", "floor", "fee"} {
			if r.IntN(2) == 0 {
				x.Drop = append(x.Drop, column)
			} else if column == "email" {
				x.Columns["email"] = feed.Treatment{Hash: "people", Name: "mail"}
			}
		}
		return x
	}
	keep := []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory}[r.IntN(3)]
	t.Logf("seed %d, %s", seed, keep)
	f := newFollower(t, b, readers(keep))
	f.catchUp()
	filled := 0
	for range rounds {
		stop, writers := make(chan struct{}), sync.WaitGroup{}
		for w := range 2 {
			random := rand.New(rand.NewPCG(seed, r.Uint64()))
			writers.Go(func() {
				for {
					select {
					case <-stop:
						return
					default:
					}
					if err := exec(ctx, readersAtRandom(random, w)); err != nil && !strings.Contains(err.Error(), "uplicate") {
						t.Error(err)
						return
					}
					time.Sleep(time.Duration(random.IntN(20)) * time.Millisecond)
				}
			})
		}
		b.feed.Tables[0] = readers(keep)
		b.feed.Tables[0].Find = feed.FindLog
		for range r.IntN(3) { // killed
			dies, die := context.WithTimeout(ctx, time.Duration(r.IntN(250))*time.Millisecond)
			_, _ = f.engine.Follow(dies, f.work())
			die()
		}
		recorded := statement.With(ctx, func(s statement.Statement) {
			if strings.HasPrefix(s.SQL, "UPDATE") && strings.Contains(s.SQL, "copied_") && s.Error == "" {
				filled++
			}
		})
		_, err := f.engine.Follow(recorded, f.work())
		require.NoError(t, err)
		close(stop)
		writers.Wait()
		f.catchUp()
		proof, err := engine.Prove(ctx, b.work(b.feed.Tables[0]))
		require.NoError(t, err)
		require.True(t, proof.Same, "seed %d: %+v", seed, proof)
	}
	require.Positive(t, filled)
}

// readersAtRandom is a change of some readers; writers keep to rows of their own.
func readersAtRandom(r *rand.Rand, writer int) string {
	id := 2*r.IntN(220) + writer
	switch r.IntN(8) {
	case 0:
		return fmt.Sprintf("DELETE FROM readers WHERE id = %d", id)
	case 1, 2:
		return fmt.Sprintf("INSERT INTO readers VALUES (%d, 'new', NULL, '%s', %d, %d)", id,
			strings.Repeat("y", 100*r.IntN(30)), r.IntN(9), r.IntN(50))
	case 3:
		return fmt.Sprintf("UPDATE readers SET note = '%s' WHERE id = %d", strings.Repeat("z", 100*r.IntN(30)), id)
	case 4:
		return fmt.Sprintf("UPDATE readers SET email = 'n%d@post.example', floor = NULL WHERE id = %d", r.IntN(99), id)
	}
	return fmt.Sprintf("UPDATE readers SET fee = %d, kind = 'child' WHERE id = %d", r.IntN(90), id)
}
