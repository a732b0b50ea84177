package feeds

import (
	"context"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/source"
)

// Privileges gives the statements that make users with just what a feed file needs.
func (r *Rules) Privileges(ctx context.Context, p records.PrivilegesAsked) (records.Privileges, error) {
	out := records.Privileges{Source: []string{}, Warehouse: []string{}}
	f, err := feed.ParseFile([]byte(p.File))
	if err != nil {
		return out, err
	}
	src, wh, err := r.Databases.Of(ctx, f)
	if err != nil {
		return out, err
	}
	choices, _, err := engine.Choices(ctx, f, src)
	if err != nil {
		return out, err
	}
	f, _ = f.Resolve(f.Picks(choices))
	needs := source.Needs{Log: f.FollowsLog()}
	var targets []schema.Name
	for _, t := range f.Tables {
		needs.Watermark = needs.Watermark || t.Find == feed.FindWatermark
		if name, err := schema.ParseName(t.Table); err == nil && t.Query == "" { // a query's tables are its writer's to know
			needs.Tables = append(needs.Tables, name)
		}
		if target, err := f.TargetOf(t); err == nil {
			targets = append(targets, target)
		}
	}
	out.Source = append(out.Source, src.Grants(p.Reader, needs)...)
	out.Warehouse = append(out.Warehouse, wh.Grants(p.Writer, p.Analysts, targets)...)
	return out, nil
}
