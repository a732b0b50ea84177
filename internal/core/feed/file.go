package feed

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"reflect"
	"strings"

	"go.yaml.in/yaml/v3"

	"noemata/internal/core/problem"
)

// ParseFile reads a feed file. Everything wrong with it is told at once, each
// with its line.
func ParseFile(content []byte) (*Feed, error) {
	if len(content) > MostBytes {
		return nil, problem.Newf(problem.Invalid, "Write several feeds.",
			"The feed file has %d bytes, and %d are the most that is read.", len(content), MostBytes)
	}
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	var document yaml.Node
	if err := decoder.Decode(&document); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, problem.New(problem.Invalid, "The feed file is empty.",
				"Write at least feed, source, warehouse and tables.")
		}
		return nil, problem.Wrap(err, problem.Invalid, "The feed file is not valid YAML: "+
			strings.TrimPrefix(err.Error(), "yaml: ")+".", "Correct it and try again.")
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return nil, problem.New(problem.Invalid, "The feed file holds more than one document.",
			"Write one feed to a file.")
	}
	r := reader{lines: map[string]int{}}
	if err := r.refuse(&document); err != nil {
		return nil, err
	}
	var f Feed
	r.read(document.Content[0], reflect.ValueOf(&f).Elem(), "")
	if f.nameQueries(); len(r.faults) == 0 {
		for _, fault := range f.Check() {
			r.fault(r.line(fault.Path), fault.Path, fault.Message)
		}
	}
	if n := len(r.faults); n > 0 {
		var shown, items []string
		for _, fault := range r.faults[:min(n, mostFaults)] {
			items = append(items, fault.Path+": "+fault.Message)
			shown = append(shown, fmt.Sprintf("line %d, %s: %s", fault.line, fault.Path, fault.Message))
		}
		if n > mostFaults {
			shown = append(shown, fmt.Sprintf("and %d more", n-mostFaults))
		}
		p := problem.New(problem.Invalid, "The feed file has "+count(n, "fault")+":\n  "+
			strings.Join(shown, "\n  "), "Correct it and try again; nothing was changed.")
		p.Items = items
		return nil, p
	}
	return &f, nil
}

// How large a feed file may be, and how many of its faults are told.
const (
	MostBytes  = 1 << 20
	mostNodes  = 100_000
	mostFaults = 25
)

// refuse looks through the file for what is not taken: anchors and aliases, by which a few
// lines can stand for millions of nodes, and more nodes than any feed needs.
func (r *reader) refuse(node *yaml.Node) error {
	if r.nodes++; r.nodes > mostNodes {
		return problem.Newf(problem.Invalid, "Write several feeds.", "The feed file has more than %d values.",
			mostNodes)
	}
	if node.Kind == yaml.AliasNode || node.Anchor != "" {
		return problem.Newf(problem.Invalid, "Write out what it stands for.",
			"Line %d of the feed file has an anchor or an alias (& or *), which are not taken.", node.Line)
	}
	for _, child := range node.Content {
		if err := r.refuse(child); err != nil {
			return err
		}
	}
	return nil
}

// reader puts a YAML tree into Go values by their yaml tags, remembering lines.
type reader struct {
	lines  map[string]int
	faults []lineFault
	nodes  int
}

type lineFault struct {
	Fault
	line int
}

func (r *reader) fault(line int, path, message string) {
	r.faults = append(r.faults, lineFault{Fault{path, message}, line})
}

// line finds the line of a path, or of the nearest thing above it.
func (r *reader) line(path string) int {
	for {
		if line, ok := r.lines[path]; ok {
			return line
		}
		i := strings.LastIndexAny(path, ".[")
		if i < 0 {
			return 1
		}
		path = path[:i]
	}
}

func (r *reader) read(node *yaml.Node, into reflect.Value, path string) {
	r.lines[path] = node.Line
	if short, ok := shortOf(into); ok && node.Kind == yaml.ScalarNode {
		if err := short.short(node.Value); err != nil {
			r.fault(node.Line, path, fmt.Sprintf("%q is not expected here: %v.", node.Value, err))
		}
		return
	}
	if node.Tag == "!!null" {
		return
	}
	switch into.Kind() {
	case reflect.Pointer:
		into.Set(reflect.New(into.Type().Elem()))
		r.read(node, into.Elem(), path)
	case reflect.Struct:
		r.readStruct(node, into, path)
	case reflect.Slice:
		if node.Kind != yaml.SequenceNode {
			r.fault(node.Line, path, fmt.Sprintf("A list is expected here, not %s.", shown(node)))
			return
		}
		into.Set(reflect.MakeSlice(into.Type(), len(node.Content), len(node.Content)))
		for i, item := range node.Content {
			r.read(item, into.Index(i), fmt.Sprintf("%s[%d]", path, i))
		}
	case reflect.Map:
		r.readMap(node, into, path)
	case reflect.Bool:
		r.readScalar(node, into, path, "true or false")
	case reflect.Int64:
		r.readScalar(node, into, path, "A whole number")
	case reflect.String:
		if node.Kind != yaml.ScalarNode || node.Tag == "!!bool" {
			r.fault(node.Line, path, fmt.Sprintf("A text is expected here, not %s.", shown(node)))
			return
		}
		into.SetString(node.Value)
	}
}

// shortOf gives the short form of what is read, if it has one.
func shortOf(into reflect.Value) (interface{ short(string) error }, bool) {
	short, ok := into.Addr().Interface().(interface{ short(string) error })
	return short, ok
}

// fieldsOf gives what a file can say of a struct, by name and in order.
func fieldsOf(v reflect.Value) iter.Seq2[string, reflect.Value] {
	return func(yield func(string, reflect.Value) bool) {
		for _, f := range reflect.VisibleFields(v.Type()) {
			name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
			if f.IsExported() && !f.Anonymous && !yield(name, v.FieldByIndex(f.Index)) {
				return
			}
		}
	}
}

// readScalar reads a value that the YAML library decodes.
func (r *reader) readScalar(node *yaml.Node, into reflect.Value, path, what string) {
	if node.Kind != yaml.ScalarNode || node.Decode(into.Addr().Interface()) != nil {
		r.fault(node.Line, path, fmt.Sprintf("%s is expected here, not %s.", what, shown(node)))
	}
}

func (r *reader) readStruct(node *yaml.Node, into reflect.Value, path string) {
	if node.Kind != yaml.MappingNode {
		r.fault(node.Line, strings.TrimPrefix(path+" ", " "),
			fmt.Sprintf("Fields are expected here, not %s.", shown(node)))
		return
	}
	var names []string
	fields := map[string]reflect.Value{}
	for name, field := range fieldsOf(into) {
		names = append(names, name)
		fields[name] = field
	}
	// What is to become of a column is never left open: an empty field would let it pass as it is.
	_, strict := shortOf(into)
	seen := map[string]bool{}
	for i := 0; i < len(node.Content); i += 2 {
		key, value := node.Content[i], node.Content[i+1]
		at := strings.TrimPrefix(path+"."+key.Value, ".")
		field, known := fields[key.Value]
		switch {
		case !known:
			r.fault(key.Line, at, "There is no such field. "+suggestion(key.Value, names))
		case seen[key.Value]:
			r.fault(key.Line, at, "The field is given twice.")
		case strict && value.Tag == "!!null" && field.Type() != reflect.TypeFor[Mask]():
			r.fault(key.Line, at, "A value is expected here: write one, or remove the field.")
		default:
			r.read(value, field, at)
		}
		seen[key.Value] = true
	}
}

// readMap reads fields whose names a person has chosen.
func (r *reader) readMap(node *yaml.Node, into reflect.Value, path string) {
	if node.Kind != yaml.MappingNode {
		r.fault(node.Line, path, fmt.Sprintf("Fields are expected here, not %s.", shown(node)))
		return
	}
	into.Set(reflect.MakeMap(into.Type()))
	for i := 0; i < len(node.Content); i += 2 {
		key, value := node.Content[i], node.Content[i+1]
		at := path + "." + key.Value
		if into.MapIndex(reflect.ValueOf(key.Value)).IsValid() {
			r.fault(key.Line, at, "The field is given twice.")
			continue
		}
		item := reflect.New(into.Type().Elem()).Elem()
		r.read(value, item, at)
		into.SetMapIndex(reflect.ValueOf(key.Value), item)
	}
}

func shown(node *yaml.Node) string {
	switch node.Kind {
	case yaml.SequenceNode:
		return "a list"
	case yaml.MappingNode:
		return "fields"
	}
	if runes := []rune(node.Value); len(runes) > 60 {
		return fmt.Sprintf("%q…", string(runes[:60]))
	}
	return fmt.Sprintf("%q", node.Value)
}

// suggestion names the known field nearest to what was written, or all of them.
func suggestion(word string, known []string) string {
	best, distance := "", 3
	for _, k := range known {
		if len(word) > 2*len(k)+3 {
			continue
		}
		if d := editDistance(word, k); d < distance {
			best, distance = k, d
		}
	}
	if best != "" {
		return fmt.Sprintf("Did you mean %s?", best)
	}
	return "Known fields here: " + strings.Join(known, ", ") + "."
}

// editDistance is the Levenshtein distance of two short words.
func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := previous
			if a[i] != b[j] {
				cost = 1 + min(previous, row[j], row[j+1])
			}
			previous, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

// File writes the feed as a feed file. ParseFile reads it back to the same feed.
func (f *Feed) File() []byte { return inYAML(f.withoutNames()) }

func inYAML(value any) []byte {
	var b bytes.Buffer
	encoder := yaml.NewEncoder(&b)
	encoder.SetIndent(2)
	_ = encoder.Encode(value) // plain fields into a buffer: it cannot fail
	return b.Bytes()
}

// Commented is File with a comment above each table, and beside columns that are named, by table and
// column.
func (f *Feed) Commented(tables map[string]string, columns map[string]map[string]string) []byte {
	var root yaml.Node
	_ = root.Encode(f.withoutNames()) // plain fields: it cannot fail
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value != "tables" {
			continue
		}
		for k, table := range root.Content[i+1].Content {
			of := f.Tables[k].Table
			table.HeadComment = tables[of]
			comment(table, columns[of])
		}
	}
	return inYAML(&root)
}

// comment puts comments beside the names of columns wherever a table has them.
func comment(n *yaml.Node, columns map[string]string) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch key, value := n.Content[i].Value, n.Content[i+1]; key {
		case "columns":
			for c := 0; c+1 < len(value.Content); c += 2 {
				value.Content[c].HeadComment = columns[value.Content[c].Value]
			}
		case "drop":
			value.Style = 0 // a line for each, with its comment
			for _, c := range value.Content {
				c.LineComment = columns[c.Value]
			}
		}
	}
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
