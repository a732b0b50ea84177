package feed

import (
	"go.yaml.in/yaml/v3"

	"noemata/internal/core/written"
)

// ParseFile reads a feed file. Everything wrong with it is told at once, each
// with its line.
func ParseFile(content []byte) (*Feed, error) {
	var f Feed
	err := written.Read(content, "feed file", "Write at least feed, source, warehouse and tables.", &f, func() []Fault {
		f.nameQueries()
		return f.Check()
	})
	if err != nil {
		return nil, err
	}
	return &f, nil
}

// File writes the feed as a feed file. ParseFile reads it back to the same feed.
func (f *Feed) File() []byte { return written.YAML(f.withoutNames()) }

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
	return written.YAML(&root)
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
