package mariadb

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"noemata/internal/core/problem"
)

// place is where a reader stands in the binary log: the last transaction of each domain
// (mariadb.com/kb/en/gtid). It is the same on every replica of the server.
//
// Its text begins with the sum of the domains' numbers. Each transaction raises it, so
// that places sort as the log does. Where transactions have been prepared and may still be
// committed, the place before the first of them follows, from which the log must be read
// again to have their changes.
type place struct {
	domains map[uint32]gtid
	before  string // prepared transactions, as the server writes it; empty without any
}

type gtid struct {
	server uint32
	seq    uint64
}

func (p place) sum() (n uint64) {
	for _, g := range p.domains {
		n += g.seq
	}
	return n
}

// list is the place as the server writes it.
func (p place) list() string {
	var parts []string
	for _, d := range slices.Sorted(maps.Keys(p.domains)) {
		parts = append(parts, fmt.Sprintf("%d-%d-%d", d, p.domains[d].server, p.domains[d].seq))
	}
	return strings.Join(parts, ",")
}

// start is where the log must be read from, as the server writes it.
func (p place) start() string { return cmp.Or(p.before, p.list()) }

func (p place) String() string {
	text := strings.TrimRight(fmt.Sprintf("%020d %s", p.sum(), p.list()), " ")
	if p.before != "" {
		text += " from " + p.before
	}
	return text
}

// with is the place after one more transaction.
func (p place) with(domain uint32, g gtid) place {
	next := place{domains: maps.Clone(p.domains), before: p.before}
	if next.domains == nil {
		next.domains = map[uint32]gtid{}
	}
	next.domains[domain] = g
	return next
}

// has tells whether a transaction lies before the place.
func (p place) has(domain uint32, seq uint64) bool { return p.domains[domain].seq >= seq }

// parsePlace reads a place: as String writes it, or as the server does.
func parsePlace(text string) (place, error) {
	wrong := problem.Newf(problem.Invalid, "Write it as MariaDB does: 0-1-4711, or with a comma between domains.",
		"%q is not a position in a MariaDB log.", text)
	p := place{domains: map[uint32]gtid{}}
	list, before, waits := strings.Cut(text, " from ")
	p.before = before
	sum, rest, both := strings.Cut(strings.TrimSpace(list), " ")
	if both || !strings.Contains(list, "-") {
		if _, err := strconv.ParseUint(sum, 10, 64); err != nil && text != "" {
			return p, wrong
		}
		list = rest
	}
	for part := range strings.SplitSeq(strings.TrimSpace(list), ",") {
		if part == "" {
			continue
		}
		var domain, server uint32
		var seq uint64
		var end string
		if n, _ := fmt.Sscanf(part, "%d-%d-%d%s", &domain, &server, &seq, &end); n != 3 {
			return p, wrong
		}
		p.domains[domain] = gtid{server, seq}
	}
	if waits {
		if _, err := parsePlace(before); err != nil || before == "" {
			return p, wrong
		}
	}
	return p, nil
}
