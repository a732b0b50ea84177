package window

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"noemata/internal/core/position"
	"noemata/internal/core/schema"
)

// MostSlices is into how many slices a range may be cut.
const MostSlices = 100_000

// Range is a stretch of watermarks that is read again in slices.
type Range struct {
	From   string // this one counts too
	To     string // and so does this
	Slice  string // how long a slice is, as 12h, 1d, 1mo or 1y, or a number; empty is all in one
	Newest bool   // the slice that ends with To comes first
}

// Slices cuts a range.
type Slices struct {
	Count int
	of    Range
	bound func(i int) string // where the i-th slice ends, if the range goes on so far
}

// Cut cuts a range of watermarks of a type.
func (r Range) Cut(t schema.Type) (Slices, error) {
	s := Slices{Count: 1, of: r}
	if compared(r.From, r.To, t) > 0 {
		return s, fmt.Errorf("the range ends at %s, before it begins at %s", r.To, r.From)
	}
	if r.Slice == "" {
		return s, nil
	}
	var err error
	switch {
	case t.Kind == schema.Text:
		return s, fmt.Errorf("a watermark of type text cannot be cut into slices: there is no distance between texts")
	case Timed(t.Kind):
		s.bound, err = timeSteps(r, t)
	default:
		s.bound, err = numberSteps(r, t)
	}
	if err != nil {
		return s, err
	}
	for compared(s.bound(s.Count), r.To, t) < 0 {
		if s.Count++; s.Count > MostSlices {
			return s, fmt.Errorf("that makes more than %d slices: make them longer", MostSlices)
		}
	}
	return s, nil
}

// Below is a value of a watermark that is lower than another, by as little as can be said.
func Below(value string, t schema.Type) string {
	switch {
	case t.Kind == schema.Text: // by bytes, what a text begins with is below it
		_, size := utf8.DecodeLastRuneInString(value)
		if rest := value[:len(value)-size]; rest != "" {
			return rest
		}
		return "\x01"
	case t.Kind == schema.Date:
		value, _ = LookBack("1d").Below(value, t) // it was checked
	case Timed(t.Kind):
		value, _ = LookBack("1us").Below(value, t)
	default:
		n, ok := new(big.Rat).SetString(value)
		if !ok {
			return value // it was checked
		}
		whole := new(big.Int).Div(n.Num(), n.Denom()) // rounded down
		return whole.Sub(whole, big.NewInt(1)).String()
	}
	return value
}

func compared(a, b string, t schema.Type) int {
	return position.Compare(position.Position{Value: a}, position.Position{Value: b}, t)
}

// At is the window of the slice that comes in the i-th place, from 0 on.
func (s Slices) At(i int) Window {
	if s.of.Newest {
		i = s.Count - 1 - i
	}
	w := Window{Low: position.Position{Value: s.of.From}, Inclusive: true, High: s.of.To}
	if i > 0 {
		w.Low, w.Inclusive = position.Position{Value: s.bound(i)}, false
	}
	if i < s.Count-1 {
		w.High = s.bound(i + 1)
	}
	return w
}

// timeSteps counts from the beginning of the range on, so that months keep their day.
func timeSteps(r Range, t schema.Type) (func(int) string, error) {
	from, err := schema.ParseTimestamp(r.From)
	if err != nil || from == schema.InfiniteTime || from == -schema.InfiniteTime {
		return nil, fmt.Errorf("a range that begins at %s cannot be cut into slices", r.From)
	}
	begin := time.UnixMicro(from).UTC()
	at := func(int) time.Time { return begin }
	if months, err := parseMonths(r.Slice); err == nil {
		at = func(i int) time.Time { return addMonths(begin, i*months) }
	} else if d, err := ParseDuration(r.Slice); err != nil || d < time.Microsecond ||
		t.Kind == schema.Date && d%(24*time.Hour) != 0 {
		return nil, fmt.Errorf("%q is not the length of a slice: write it as 12h, 1d, 1mo or 1y, of a date in whole "+
			"days",
			r.Slice)
	} else {
		at = func(i int) time.Time { return begin.Add(time.Duration(i) * d) }
	}
	return func(i int) string {
		us := at(i).UnixMicro()
		switch t.Kind {
		case schema.TimestampTZ:
			return schema.TimestampTZText(us)
		case schema.Timestamp:
			return schema.TimestampText(us)
		}
		return schema.DateText(schema.Days(us))
	}, nil
}

// parseMonths reads a number of months or years.
func parseMonths(text string) (int, error) {
	digits, factor := strings.TrimSuffix(text, "mo"), 1
	if digits == text {
		digits, factor = strings.TrimSuffix(text, "y"), 12
	}
	n, err := strconv.Atoi(digits)
	if err != nil || digits == text || n < 1 || n > 12000 {
		return 0, fmt.Errorf("%q is not a number of months or years", text)
	}
	return n * factor, nil
}

// addMonths gives the same day of another month, or its last one.
func addMonths(t time.Time, months int) time.Time {
	out := t.AddDate(0, months, 0)
	if out.Day() != t.Day() {
		out = out.AddDate(0, 0, -out.Day())
	}
	return out
}

func numberSteps(r Range, t schema.Type) (func(int) string, error) {
	from, err := strconv.ParseInt(r.From, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("a range that begins at %s cannot be cut into slices", r.From)
	}
	step, err := strconv.ParseInt(r.Slice, 10, 64)
	if err != nil || step < 1 {
		return nil, fmt.Errorf("%q is not the length of a slice: write a whole number, as the watermark is %s",
			r.Slice, t)
	}
	return func(i int) string {
		bound := new(big.Int).Mul(big.NewInt(step), big.NewInt(int64(i)))
		if bound.Add(bound, big.NewInt(from)); !bound.IsInt64() {
			return r.To
		}
		return bound.String()
	}, nil
}
