// Package written reads files that people write: YAML into Go values, with the line of every fault; and writes
// and compares them.
package written

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"reflect"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"noemata/internal/core/problem"
	"noemata/internal/core/words"
)

// Fault is one thing that is wrong with a file, and where.
type Fault struct {
	Path    string
	Message string
}

// Short is what a single value may stand for in a file, instead of fields.
type Short interface{ Short(text string) error }

// Read reads a file of a kind, such as "feed file", into a struct by its yaml tags, and checks it. Everything wrong with
// it is told at once, each with its line. needs says what a file that is empty needs at least.
func Read(content []byte, what, needs string, into any, check func() []Fault) error {
	if len(content) > MostBytes {
		return problem.Newf(problem.Invalid, "Write several files.",
			"The %s has %d bytes, and %d are the most that is read.", what, len(content), MostBytes)
	}
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	var document yaml.Node
	if err := decoder.Decode(&document); err != nil {
		if errors.Is(err, io.EOF) {
			return problem.New(problem.Invalid, "The "+what+" is empty.", needs)
		}
		return problem.Wrap(err, problem.Invalid, "The "+what+" is not valid YAML: "+
			strings.TrimPrefix(err.Error(), "yaml: ")+".", "Correct it and try again.")
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return problem.New(problem.Invalid, "The "+what+" holds more than one document.",
			"Write one to a file.")
	}
	r := reader{what: what, lines: map[string]int{}}
	if err := r.refuse(&document); err != nil {
		return err
	}
	r.read(document.Content[0], reflect.ValueOf(into).Elem(), "")
	if len(r.faults) == 0 {
		for _, fault := range check() {
			r.fault(r.line(fault.Path), fault.Path, fault.Message)
		}
	}
	return r.problem()
}

// problem tells the faults; nil where there is none.
func (r *reader) problem() error {
	n := len(r.faults)
	if n == 0 {
		return nil
	}
	var shown, items []string
	for _, fault := range r.faults[:min(n, mostFaults)] {
		items = append(items, fault.Path+": "+fault.Message)
		shown = append(shown, fmt.Sprintf("line %d, %s: %s", fault.line, fault.Path, fault.Message))
	}
	if n > mostFaults {
		shown = append(shown, fmt.Sprintf("and %d more", n-mostFaults))
	}
	p := problem.New(problem.Invalid, "The "+r.what+" has "+words.Plural(n, "fault")+":\n  "+
		strings.Join(shown, "\n  "), "Correct it and try again; nothing was changed.")
	p.Items = items
	return p
}

// How large a file may be, and how many of its faults are told.
const (
	MostBytes  = 1 << 20
	mostNodes  = 100_000
	mostFaults = 25
)

// refuse looks through the file for what is not taken: anchors and aliases, by which a few
// lines can stand for millions of nodes, and more nodes than any feed needs.
func (r *reader) refuse(node *yaml.Node) error {
	if r.nodes++; r.nodes > mostNodes {
		return problem.Newf(problem.Invalid, "Write several files.", "The %s has more than %d values.",
			r.what, mostNodes)
	}
	if node.Kind == yaml.AliasNode || node.Anchor != "" {
		return problem.Newf(problem.Invalid, "Write out what it stands for.",
			"Line %d of the %s has an anchor or an alias (& or *), which are not taken.", node.Line, r.what)
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
	what   string
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
		if err := short.Short(node.Value); err != nil {
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

// isText tells whether null itself is a text that a field takes.
func isText(field reflect.Value) bool {
	_, short := shortOf(field)
	return short && field.Kind() == reflect.String
}

// shortOf gives the short form of what is read, if it has one.
func shortOf(into reflect.Value) (Short, bool) {
	short, ok := into.Addr().Interface().(Short)
	return short, ok
}

// Fields gives what a file can say of a struct, by name and in order.
func Fields(v reflect.Value) iter.Seq2[string, reflect.Value] {
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
	for name, field := range Fields(into) {
		names = append(names, name)
		fields[name] = field
	}
	// What has a short form is never left open: an empty field of a column would let it pass as it is.
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
		case strict && value.Tag == "!!null" && !isText(field):
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

// YAML writes a value as a file has it.
func YAML(value any) []byte {
	var b bytes.Buffer
	encoder := yaml.NewEncoder(&b)
	encoder.SetIndent(2)
	_ = encoder.Encode(value) // plain fields into a buffer: it cannot fail
	return b.Bytes()
}

// Change is one difference between two files.
type Change struct {
	Path string `json:"path" doc:"Where, such as tables[public.loans].keep"`
	Old  string `json:"old" doc:"As it is now; empty where it is new"`
	New  string `json:"new" doc:"As the file has it; empty where it is gone"`
}

// Diff lists what differs between what two files say, as Flatten has it.
func Diff(old, new map[string]string) []Change {
	changes := []Change{}
	var paths []string
	for _, m := range []map[string]string{old, new} {
		for path := range m {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	for _, path := range slices.Compact(paths) {
		if old[path] != new[path] {
			changes = append(changes, Change{path, old[path], new[path]})
		}
	}
	return changes
}

// Flatten lists what a struct says by its paths, below one. Lists of structs are left out: their items have names
// that only their owner knows.
func Flatten(at string, value any) map[string]string {
	out := map[string]string{}
	var put func(path string, v reflect.Value)
	put = func(path string, v reflect.Value) {
		switch v.Kind() {
		case reflect.String:
			out[path] = v.String()
		case reflect.Int64:
			if v.Int() != 0 {
				out[path] = fmt.Sprint(v.Int())
			}
		case reflect.Bool:
			out[path] = fmt.Sprint(v.Bool())
		case reflect.Pointer:
			if !v.IsNil() {
				put(path, v.Elem())
			}
		case reflect.Slice:
			if s, ok := v.Interface().([]string); ok {
				out[path] = strings.Join(s, ", ")
			}
		case reflect.Map:
			for _, k := range v.MapKeys() {
				put(path+"."+k.String(), v.MapIndex(k))
			}
		case reflect.Struct:
			for name, field := range Fields(v) {
				put(strings.TrimPrefix(path+"."+name, "."), field)
			}
		}
	}
	put(at, reflect.ValueOf(value))
	for path, value := range out { // what is not said is nowhere
		if value == "" || value == "false" && !strings.HasSuffix(path, ".keep") {
			delete(out, path)
		}
	}
	return out
}
