package feed

import (
	"fmt"
	"regexp"
	"strconv"
)

// Partition is what the files of a target are divided by, where the warehouse is a lake.
type Partition struct {
	By     string // year, month, day, hour, bucket or truncate
	N      int    // buckets, or the width; 0 for others
	Column string // of the target
}

var partitionForm = regexp.MustCompile(`^\s*([a-z]+)\s*\(\s*(?:(\d{1,9})\s*,\s*)?(\S|\S.*\S)\s*\)\s*$`)

// mostPartition is how many buckets there are at most, and how wide what is cut is.
const mostPartition = 1_000_000

// ParsePartition reads one, as month(lent_at) or bucket(16, id).
func ParsePartition(text string) (Partition, error) {
	found := partitionForm.FindStringSubmatch(text)
	if found == nil {
		return Partition{}, fmt.Errorf("%q is not a way to divide rows", text)
	}
	p := Partition{By: found[1], Column: found[3]}
	p.N, _ = strconv.Atoi(found[2]) // digits, or none
	switch p.By {
	case "year", "month", "day", "hour":
		if found[2] != "" {
			return p, fmt.Errorf("%q has a number, and %s takes none", text, p.By)
		}
	case "bucket", "truncate":
		if p.N < 1 || p.N > mostPartition {
			return p, fmt.Errorf("%q needs a number from 1 to %d, as %s(16, id)", text, mostPartition, p.By)
		}
	default:
		return p, fmt.Errorf("%q is not a way to divide rows", p.By)
	}
	return p, nil
}

// Partitions are those of a table; Check has seen to it that they can be read.
func (t Table) Partitions() (list []Partition) {
	for _, text := range t.Partition {
		if p, err := ParsePartition(text); err == nil {
			list = append(list, p)
		}
	}
	return list
}

// checkPartition looks at what the files are divided by.
func (t *Table) checkPartition(at string, fault func(string, string, ...any)) {
	seen, timed := map[Partition]bool{}, map[string]string{}
	for i, text := range t.Partition {
		p, err := ParsePartition(text)
		switch {
		case err != nil:
			fault(fmt.Sprintf("%s.partition.%d", at, i),
				"%v: write year(c), month(c), day(c), hour(c), bucket(16, c) or truncate(4, c).",
				err)
		case seen[p]:
			fault(fmt.Sprintf("%s.partition.%d", at, i), "%q is there twice.", text)
		case p.N == 0 && timed[p.Column] != "":
			fault(fmt.Sprintf("%s.partition.%d", at, i), "%s has %s divided already, by %s: one of them is enough.", text,
				p.Column,
				timed[p.Column])
		}
		if seen[p] = true; p.N == 0 {
			timed[p.Column] = p.By
		}
	}
}
