package mysql

import (
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"noemata/internal/source/mariadb"
	"noemata/internal/source/mariadb/binlog"
	"noemata/internal/source/mariadb/wire"
)

// set is a set of transactions: of each server where they were committed first, the stretches of
// their numbers (dev.mysql.com/doc/refman/8.0/en/replication-gtids-concepts.html).
type set map[string][]stretch

// stretch is a run of numbers, both ends included.
type stretch struct{ from, to uint64 }

func (s set) Sum() (n uint64) {
	for _, list := range s {
		for _, x := range list {
			n += x.to - x.from + 1
		}
	}
	return n
}

func (s set) String() string {
	var servers []string
	for _, server := range slices.Sorted(maps.Keys(s)) {
		text := server
		for _, x := range s[server] {
			if text += fmt.Sprintf(":%d", x.from); x.to > x.from {
				text += fmt.Sprintf("-%d", x.to)
			}
		}
		servers = append(servers, text)
	}
	return strings.Join(servers, ",")
}

func (s set) Has(b *binlog.Begin) bool {
	return slices.ContainsFunc(s[b.Origin], func(x stretch) bool { return x.from <= b.Seq && b.Seq <= x.to })
}

func (s set) With(b *binlog.Begin) mariadb.Reached {
	next := maps.Clone(s)
	next[b.Origin] = joined(append(slices.Clone(s[b.Origin]), stretch{b.Seq, b.Seq}))
	return next
}

// joined are stretches in their order, those that touch as one.
func joined(list []stretch) []stretch {
	slices.SortFunc(list, func(a, b stretch) int {
		if a.from < b.from {
			return -1
		}
		return 1
	})
	out := list[:0]
	for _, x := range list {
		if last := len(out) - 1; last >= 0 && x.from <= out[last].to+1 {
			out[last].to = max(out[last].to, x.to)
			continue
		}
		out = append(out, x)
	}
	return out
}

// mostStretches is how many stretches a set may have.
const mostStretches = 1_000_000

// parseSet reads a set as a server writes it.
func parseSet(text string) (mariadb.Reached, error) {
	s := set{}
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		name, numbers, _ := strings.Cut(part, ":")
		server, err := uuid.Parse(name)
		if err != nil || len(name) != 36 || numbers == "" {
			return nil, fmt.Errorf("%q is no set of transactions", part)
		}
		list := slices.Clone(s[server.String()])
		for text := range strings.SplitSeq(numbers, ":") {
			first, last, several := strings.Cut(text, "-")
			if !several {
				last = first
			}
			from, err := strconv.ParseUint(first, 10, 63)
			to, err2 := strconv.ParseUint(last, 10, 63)
			if err != nil || err2 != nil || from == 0 || to < from || len(list) >= mostStretches {
				return nil, fmt.Errorf("%q is no stretch of transactions", text)
			}
			list = append(list, stretch{from, to})
		}
		s[server.String()] = joined(list)
	}
	return s, nil
}

// bytes is the set as the protocol writes it
// (dev.mysql.com/doc/dev/mysql-server/latest/page_protocol_com_binlog_dump_gtid.html).
func (s set) bytes() []byte {
	out := binary.LittleEndian.AppendUint64(nil, uint64(len(s)))
	for _, server := range slices.Sorted(maps.Keys(s)) {
		id := uuid.MustParse(server)
		out = append(out, id[:]...)
		out = binary.LittleEndian.AppendUint64(out, uint64(len(s[server])))
		for _, x := range s[server] {
			out = binary.LittleEndian.AppendUint64(out, x.from)
			out = binary.LittleEndian.AppendUint64(out, x.to+1)
		}
	}
	return out
}

// after asks for the log after a set.
func after(list string) (wire.Dump, error) {
	reached, err := parseSet(list)
	if err != nil {
		return wire.Dump{}, err
	}
	return wire.Dump{Set: &wire.Set{Text: list, Bytes: reached.(set).bytes()}}, nil
}
