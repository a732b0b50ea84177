package shape

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/theory/jsonpath"

	"noemata/internal/core/schema"
)

// place is where a value stands within JSON, and what becomes of it.
type place struct {
	path *jsonpath.Path
	to   schema.Type
	do   appendText
}

func newPlace(path string, to schema.Type) (place, error) {
	parsed, err := jsonpath.Parse(path)
	if err != nil {
		return place{}, fmt.Errorf("%q is not a JSONPath: %w", path, err)
	}
	do, err := converter(schema.Type{Kind: schema.Text}, to)
	return place{parsed, to, do}, err
}

// takeAll takes values out of the JSON of a column: one that stands nowhere is null, and
// several are a list.
func takeAll(in input, column string, places []place) []arrow.Array {
	builders := make([]array.Builder, len(places))
	for i, p := range places {
		builders[i] = array.NewBuilder(allocator, p.to.Arrow())
		defer builders[i].Release()
		builders[i].Reserve(in.n)
	}
	texts := in.columns[0].(*array.String)
	for row := range in.n {
		var document any
		ok := !texts.IsNull(row)
		if ok {
			var err error
			if document, err = decode(texts.Value(row)); err != nil {
				in.fault(row, column, "is no JSON, and values are taken from it")
				ok = false
			}
		}
		for i, p := range places {
			text, found := "", false
			if ok {
				text, found = nodeText(p.path.Select(document))
			}
			if !found {
				builders[i].AppendNull()
			} else if err := p.do(builders[i], text); err != nil {
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
