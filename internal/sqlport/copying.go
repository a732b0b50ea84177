package sqlport

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
)

// copying is a COPY … TO STDOUT.
type copying struct {
	query     string
	format    string // text, csv or binary
	delimiter string
	null      string
	header    bool
	quoteAll  bool
}

var (
	copies    = regexp.MustCompile(`(?is)^\s*COPY\b`)
	copyTo    = regexp.MustCompile(`(?is)^\s*COPY\s+(.+?)\s+TO\s+STDOUT\s*(?:WITH\s*)?(.*)$`)
	copyTable = regexp.MustCompile(`(?is)^([^\s(]+)\s*(?:\((.+)\))?$`)
	option    = regexp.MustCompile(`(?is)^\s*(\w+)\s*(?:\s('(?:[^']|'')*'|[^\s,]+))?\s*(?:,|$)`)
)

// copyOf takes a COPY apart; nil where the statement is none.
func copyOf(sql string) (*copying, error) {
	if !copies.MatchString(sql) {
		return nil, nil
	}
	parts := copyTo.FindStringSubmatch(strings.TrimSpace(uncommented(sql)))
	if parts == nil {
		return nil, mistake("25006", "Nothing is written here, and no file: rows of a COPY go to STDOUT alone.")
	}
	c := &copying{format: "text"}
	switch what := strings.TrimSpace(parts[1]); {
	case strings.HasPrefix(what, "("):
		c.query = strings.TrimSuffix(strings.TrimPrefix(what, "("), ")")
	default:
		named := copyTable.FindStringSubmatch(what)
		if named == nil {
			return nil, mistake("42601", "COPY takes a table, or a question in parentheses.")
		}
		if c.query = "TABLE " + named[1]; named[2] != "" {
			c.query = fmt.Sprintf("SELECT %s FROM %s", named[2], named[1])
		}
	}
	return c, c.options(parts[2])
}

func (c *copying) options(text string) error {
	text = strings.TrimSpace(text)
	if inner, ok := strings.CutPrefix(text, "("); ok {
		text = strings.TrimSuffix(inner, ")")
	}
	delimiter, null := "", "\x00"
	for text != "" {
		at := option.FindStringSubmatchIndex(text)
		if at == nil {
			return mistake("42601", "The options of COPY cannot be read from %q on.", text)
		}
		m := option.FindStringSubmatch(text)
		name, value := strings.ToLower(m[1]), m[2]
		if strings.HasPrefix(value, "'") {
			value = strings.ReplaceAll(value[1:len(value)-1], "''", "'")
		}
		switch name {
		case "format":
			c.format = strings.ToLower(value)
		case "csv", "binary": // as they were said before version 9
			c.format = name
			if value != "" { // another option
				at[1] = at[3]
			}
		case "header":
			c.header = !slices.Contains([]string{"false", "off", "0"}, strings.ToLower(value))
		case "delimiter":
			delimiter = value
		case "null":
			null = value
		case "force_quote":
			c.quoteAll = value == "*"
		case "encoding":
			if !strings.EqualFold(strings.ReplaceAll(value, "-", ""), "utf8") {
				return mistake("0A000", "Answers are UTF-8.")
			}
		default:
			return mistake("0A000", "COPY has no option %s here; it has format, header, delimiter, null and encoding.", name)
		}
		text = strings.TrimSpace(text[at[1]:])
	}
	switch c.format {
	case "text":
		c.delimiter, c.null = "\t", `\N`
	case "csv":
		c.delimiter = ","
	case "binary":
	default:
		return mistake("22023", "COPY has the formats text, csv and binary, not %s.", c.format)
	}
	if delimiter != "" {
		c.delimiter = delimiter
	}
	if null != "\x00" {
		c.null = null
	}
	if len(c.delimiter) != 1 && c.format != "binary" || strings.ContainsAny(c.delimiter, "\r\n\"\\") {
		return mistake("22023", "The delimiter is one character, and none of \\ \" and ends of lines.")
	}
	return nil
}

// form is how its rows are written.
func (c *copying) form(columns []schema.Column) copyForm {
	if c.format == "binary" {
		return copyForm{header: pgcopy.Header, trailer: pgcopy.Trailer, row: appendRow,
			encoders: func(r arrow.RecordBatch, columns []schema.Column) []encoder {
				return encoders(r, columns, []int16{1})
			}}
	}
	f := copyForm{row: c.line, encoders: func(r arrow.RecordBatch, columns []schema.Column) []encoder {
		list := make([]encoder, len(columns))
		for i, column := range columns {
			list[i] = textOf(r.Column(i), column.Type)
		}
		return list
	}}
	if c.header {
		for i, column := range columns {
			if i > 0 {
				f.header = append(f.header, c.delimiter...)
			}
			f.header = append(f.header, c.escaped(column.Name)...)
		}
		f.header = append(f.header, '\n')
	}
	return f
}

// line appends a row of text.
func (c *copying) line(b []byte, record arrow.RecordBatch, encode []encoder, row int) []byte {
	for i, e := range encode {
		if i > 0 {
			b = append(b, c.delimiter...)
		}
		if record.Column(i).IsNull(row) {
			b = append(b, c.null...)
			continue
		}
		at := len(b)
		b = e(b, row)
		if value := string(b[at:]); c.quoteAll || value == c.null || strings.ContainsAny(value,
			c.delimiter+"\"\\\r\n\b\f\t\v") {
			b = append(b[:at], c.escaped(value)...)
		}
	}
	return append(b, '\n')
}

var escapes = strings.NewReplacer(`\`, `\\`, "\b", `\b`, "\f", `\f`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\v", `\v`)

// escaped is a value that is more than plain letters.
func (c *copying) escaped(value string) string {
	if c.format == "csv" {
		if c.quoteAll || value == c.null || value == `\.` || strings.ContainsAny(value, c.delimiter+"\"\r\n") {
			return `"` + strings.ReplaceAll(value, `"`, `""`) + `"`
		}
		return value
	}
	value = escapes.Replace(value)
	if c.delimiter != "\t" {
		value = strings.ReplaceAll(value, c.delimiter, `\`+c.delimiter)
	}
	return value
}
