package mariadb

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"noemata/internal/core/problem"
	"noemata/internal/source/mariadb/binlog"
)

// Reached is how far a log is known. It is the same on every replica of the server, and does
// not change.
type Reached interface {
	// Sum rises with each transaction.
	Sum() uint64
	// String is how the server writes it.
	String() string
	// Has tells whether a transaction lies before it.
	Has(b *binlog.Begin) bool
	// With is what is reached with one more transaction.
	With(b *binlog.Begin) Reached
}

// place is where a reader stands in the binary log.
//
// Its text begins with the sum of what is reached. Each transaction raises it, so that places
// sort as the log does. Where transactions have been prepared and may still be committed, the
// place before the first of them follows, from which the log must be read again to have their
// changes.
type place struct {
	Reached
	before string // prepared transactions, as the server writes it; empty without any
}

// start is where the log must be read from, as the server writes it.
func (p place) start() string { return cmp.Or(p.before, p.Reached.String()) }

func (p place) String() string {
	text := strings.TrimRight(fmt.Sprintf("%020d %s", p.Sum(), p.Reached), " ")
	if p.before != "" {
		text += " from " + p.before
	}
	return text
}

// with is the place after one more transaction.
func (p place) with(b *binlog.Begin) place { return place{p.With(b), p.before} }

// place reads a place: as String writes it, or as the server does.
func (s *Source) place(text string) (p place, err error) {
	l := s.server.Log
	list, before, waits := strings.Cut(text, " from ")
	sum, rest, both := strings.Cut(strings.TrimSpace(list), " ")
	_, err = strconv.ParseUint(sum, 10, 64)
	counted := err == nil
	if both || counted {
		list = rest
	}
	reached, err := l.Parse(strings.TrimSpace(list))
	if err == nil && waits {
		_, err = l.Parse(before)
	}
	if err != nil || both && !counted || waits && before == "" {
		return p, problem.Newf(problem.Invalid, fmt.Sprintf("Write it as %s does: %s.", s.server.Name, l.Example),
			"%q is not a position in a %s log.", text, s.server.Name)
	}
	return place{reached, before}, nil
}

// lasts are the last transactions of each domain (mariadb.com/kb/en/gtid).
type lasts map[uint32]gtid

type gtid struct {
	server uint32
	seq    uint64
}

func (l lasts) Sum() (n uint64) {
	for _, g := range l {
		n += g.seq
	}
	return n
}

func (l lasts) String() string {
	var parts []string
	for _, d := range slices.Sorted(maps.Keys(l)) {
		parts = append(parts, fmt.Sprintf("%d-%d-%d", d, l[d].server, l[d].seq))
	}
	return strings.Join(parts, ",")
}

func (l lasts) Has(b *binlog.Begin) bool { return l[b.Domain].seq >= b.Seq }

func (l lasts) With(b *binlog.Begin) Reached {
	next := maps.Clone(l)
	next[b.Domain] = gtid{b.Server, b.Seq}
	return next
}

func parseLasts(list string) (Reached, error) {
	l := lasts{}
	for part := range strings.SplitSeq(list, ",") {
		if part == "" {
			continue
		}
		var domain, server uint32
		var seq uint64
		var end string
		if n, _ := fmt.Sscanf(part, "%d-%d-%d%s", &domain, &server, &seq, &end); n != 3 {
			return nil, fmt.Errorf("%q is no global transaction id", part)
		}
		l[domain] = gtid{server, seq}
	}
	return l, nil
}
