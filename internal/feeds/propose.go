package feeds

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/problem"
	"noemata/internal/core/propose"
	"noemata/internal/engine"
)

// peopleKey names the key that columns are hashed with where nothing else is said.
const peopleKey = "people"

// Propose says how tables of a source may be brought to a warehouse, as a feed file and with the reasons.
// Nothing is written.
func (r *Rules) Propose(ctx context.Context, name, source, warehouse string, tables, except []string) (file string,
	proposals []propose.Proposal, findings []problem.Finding, err error) {
	src, err := r.Databases.SourceToHide(ctx, source) // samples are looked through for private values
	if err != nil {
		return "", nil, nil, err
	}
	if _, err := r.Databases.Warehouse(ctx, warehouse); err != nil {
		return "", nil, nil, err
	}
	if proposals, findings, err = engine.Propose(ctx, src, tables, except, peopleKey); err != nil {
		return "", nil, nil, err
	}
	if len(proposals) == 0 {
		x := findings[len(findings)-1]
		return "", nil, nil, problem.New(problem.Invalid, x.What, x.Remedy)
	}
	taken, err := r.Store.FeedNames(ctx)
	switch {
	case err != nil:
		return "", nil, nil, err
	case name == "":
		name = freeName(source+"-"+warehouse, taken)
	case slices.Contains(taken, name):
		findings = append(findings, problem.Finding{Level: problem.Warning,
			What:   "There is a feed " + name + " already, which the file would change.",
			Remedy: "Give the new one a name of its own, in the first line of the file."})
	}
	why, looks := map[string]string{}, map[string]map[string]string{}
	for _, p := range proposals {
		text := p.Why
		looks[p.Table.Table] = map[string]string{}
		for _, c := range p.Private {
			if c.Treatment.Words() == "" {
				text += " Its column " + c.Column + " is " + c.Looks + "."
				continue
			}
			looks[p.Table.Table][c.Column] = "looks like " + c.Looks
		}
		why[p.Table.Table] = wrapped(text, widest)
	}
	f := propose.Feed(name, source, warehouse, proposals)
	return string(f.Commented(why, looks)), proposals, append([]problem.Finding{}, findings...), nil
}

// freeName is a name that no feed has.
func freeName(name string, taken []string) string {
	free := name
	for n := 2; slices.Contains(taken, free); n++ {
		free = fmt.Sprintf("%s-%d", name, n)
	}
	return free
}

// widest is how wide a comment is.
const widest = 96

// wrapped breaks a text into lines.
func wrapped(text string, width int) string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && len(line)+1+len(word) > width {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimSpace(line + " " + word)
	}
	return strings.Join(append(lines, line), "\n")
}
