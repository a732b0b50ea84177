package shape

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/theory/jsonpath"

	"noemata/internal/core/schema"
)

// place is where a value stands within JSON, and what becomes of it.
type place struct {
	path *jsonpath.Path
	to   schema.Type
	do   appendText
}

// newPlace reads a path. One that goes down to any depth more than once could find a document's
// values again and again.
func newPlace(path string, to schema.Type) (place, error) {
	if strings.Count(path, "..") > 1 {
		return place{}, fmt.Errorf("%q goes down to any depth (..) more than once", path)
	}
	parsed, err := jsonpath.Parse(path)
	if err != nil {
		return place{}, fmt.Errorf("%q is not a JSONPath: %w", path, err)
	}
	do, err := converter(schema.Type{Kind: schema.Text}, to)
	return place{parsed, to, do}, err
}

// takeAll takes values out of the JSON of a column: one that stands nowhere is null, and
// several are a list.
func takeAll(in input, column string, places []place, names *names) []arrow.Array {
	builders := make([]array.Builder, len(places))
	for i, p := range places {
		builders[i] = array.NewBuilder(allocator, p.to.Arrow())
		defer builders[i].Release()
		builders[i].Reserve(in.n)
	}
	texts := in.columns[0].(*array.String)
	found := make([]*string, len(places))
	for row := range in.n {
		clear(found)
		if !texts.IsNull(row) {
			if err := find(texts.Value(row), places, names, found); err != nil {
				in.fault(row, column, "is no JSON, and values are taken from it")
				clear(found)
			}
		}
		for i, p := range places {
			if found[i] == nil {
				builders[i].AppendNull()
			} else if err := p.do(builders[i], *found[i]); err != nil {
				in.fault(row, column, fmt.Sprintf("has a value at %s that %s", p.path, err))
				builders[i].AppendNull()
			}
		}
	}
	made := make([]arrow.Array, len(places))
	for i, b := range builders {
		made[i] = b.NewArray()
	}
	return made
}

// find finds the values of all places in a document: by one reading of it where they are
// told by names alone.
func find(text string, places []place, names *names, found []*string) error {
	if names != nil {
		return names.find(text, found)
	}
	document, err := decode(text)
	if err != nil {
		return err
	}
	for i, p := range places {
		if value, ok := nodeText(p.path.Select(document)); ok {
			found[i] = &value
		}
	}
	return nil
}

// names are places that are told by names alone, as a tree of them.
type names struct {
	inner map[string]*names
	at    []int // the places that end here
}

var byName = regexp.MustCompile(`^\$((?:\.[A-Za-z_][A-Za-z0-9_]*)+)$`)

// namesOf makes the tree; nil where a place is told otherwise, or lies within another one.
func namesOf(paths []string) *names {
	root := &names{inner: map[string]*names{}}
	for i, path := range paths {
		m := byName.FindStringSubmatch(path)
		if m == nil {
			return nil
		}
		n := root
		for name := range strings.SplitSeq(m[1][1:], ".") {
			if n.inner[name] == nil {
				n.inner[name] = &names{inner: map[string]*names{}}
			}
			n = n.inner[name]
		}
		n.at = append(n.at, i)
	}
	var within func(n *names) bool
	within = func(n *names) bool {
		for _, x := range n.inner {
			if len(n.at) > 0 || within(x) {
				return true
			}
		}
		return false
	}
	if within(root) {
		return nil
	}
	return root
}

// find reads a document once. Of names that come twice the last counts.
func (n *names) find(text string, found []*string) error {
	d := jsontext.NewDecoder(strings.NewReader(text), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true))
	if err := n.walk(d, found); err != nil {
		return err
	}
	if _, err := d.ReadToken(); err != io.EOF {
		return fmt.Errorf("more than one document")
	}
	return nil
}

func (n *names) walk(d *jsontext.Decoder, found []*string) error {
	if len(n.at) > 0 {
		value, err := d.ReadValue()
		if err != nil {
			return err
		}
		text, err := valueText(value)
		for _, i := range n.at {
			found[i] = text
		}
		return err
	}
	n.forget(found)
	if d.PeekKind() != '{' {
		return d.SkipValue()
	}
	if _, err := d.ReadToken(); err != nil {
		return err
	}
	var room [64]byte
	for d.PeekKind() == '"' {
		quoted, err := d.ReadValue()
		if err != nil {
			return err
		}
		name, err := jsontext.AppendUnquote(room[:0], quoted)
		if err != nil {
			return err
		}
		if inner := n.inner[string(name)]; inner != nil {
			err = inner.walk(d, found)
		} else {
			err = d.SkipValue()
		}
		if err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

// forget takes back what an earlier value of the same name has told.
func (n *names) forget(found []*string) {
	for _, i := range n.at {
		found[i] = nil
	}
	for _, x := range n.inner {
		x.forget(found)
	}
}

// valueText is a value as nodeText has it; nil is null.
func valueText(value jsontext.Value) (*string, error) {
	var text string
	switch value.Kind() {
	case 'n':
		return nil, nil
	case '"':
		plain, err := jsontext.AppendUnquote(nil, value)
		if err != nil {
			return nil, err
		}
		text = string(plain)
	case '{', '[':
		document, err := decode(string(value))
		if err != nil {
			return nil, err
		}
		text = jsonText(document)
	default:
		text = string(value)
	}
	return &text, nil
}

// decode reads one JSON document, its numbers as they are written.
func decode(text string) (any, error) {
	decoder := json.NewDecoder(bytes.NewReader([]byte(text)))
	decoder.UseNumber()
	var document any
	if err := decoder.Decode(&document); err != nil {
		return nil, err
	}
	if _, err := decoder.Token(); err != io.EOF {
		return nil, fmt.Errorf("more than one document")
	}
	return document, nil
}

func nodeText(nodes jsonpath.NodeList) (string, bool) {
	switch len(nodes) {
	case 0:
		return "", false
	case 1:
		switch v := nodes[0].(type) {
		case nil:
			return "", false
		case string:
			return v, true
		case json.Number:
			return v.String(), true
		case bool:
			return fmt.Sprint(v), true
		default:
			return jsonText(v), true
		}
	}
	return jsonText([]any(nodes)), true
}

func jsonText(v any) string {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(v) // of what was decoded
	return string(bytes.TrimRight(b.Bytes(), "\n"))
}
