package feeds

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"noemata/internal/core/derive"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/records"
	"noemata/internal/warehouse"
)

// deriving is what is looked at while the file of derived tables is applied.
type deriving struct {
	*Rules
	set       *derive.Set
	may       warehouse.May
	in        warehouse.Deriving
	key       func(schema.Name) string
	reads     map[string][]string // by the names of the set's tables, as the file has them
	others    derive.Reads        // of the warehouse's other sets, by key
	out       records.DerivedApplied
	forbidden bool
}

// ApplyDerived applies the file of a set of derived tables unless a finding blocks it. files are those that it names for
// SQL. Whoever applies it must be let ask what the tables read, and the tables themselves.
func (r *Rules) ApplyDerived(ctx context.Context, file string, files map[string]string, how Applying,
	by records.Token) (records.DerivedApplied, error) {
	set, err := derive.Parse([]byte(file), files)
	if err != nil {
		return records.DerivedApplied{}, err
	}
	var old *derive.Set
	before, err := r.Store.DerivedSets(ctx, set.Name)
	if err == nil {
		old = &before[0].Set
	} else if !problem.Is(err, problem.NotFound) {
		return records.DerivedApplied{}, err
	}
	d := &deriving{Rules: r, set: set, reads: map[string][]string{}, others: derive.Reads{},
		out: records.DerivedApplied{Set: set.Name, New: old == nil, Changes: derive.Diff(old, set), Findings: []problem.Finding{},
			Order: []string{}}}
	if how == Compare {
		return d.out, nil
	}
	if err := d.check(ctx, old, by); err != nil {
		return d.out, err
	}
	d.out.Findings = problem.Mendable(d.out.Findings)
	if how != ForReal {
		return d.out, nil
	}
	if at := slices.IndexFunc(d.out.Findings, func(x problem.Finding) bool { return x.Level == problem.Blocker }); at >= 0 {
		x, code := d.out.Findings[at], problem.Invalid
		if d.forbidden {
			code = problem.NoPrivilege
		}
		about := ""
		if x.Table != "" {
			about = x.Table + ": "
		}
		return d.out, problem.New(code, fmt.Sprintf("The derived tables %s were not applied: %s%s", set.Name, about, x.What), x.Remedy)
	}
	d.out.Applied = true
	return d.out, r.Store.SaveDerivedSet(ctx, set, d.reads, by.Name)
}

// check looks for what stands in the way.
func (d *deriving) check(ctx context.Context, old *derive.Set, by records.Token) error {
	return d.inDerived(ctx, d.set.Warehouse, func(in warehouse.Deriving, names warehouse.Names) error {
		d.in, d.key = in, func(n schema.Name) string { return names.KeyOf(n).Display() }
		return d.checkIn(ctx, old, by)
	})
}

func (d *deriving) checkIn(ctx context.Context, old *derive.Set, by records.Token) error {
	d.may, _ = by.MayAsk(d.set.Warehouse)
	taken, err := d.taken(ctx)
	if err != nil {
		return err
	}
	for _, t := range d.set.Tables {
		if err := d.table(ctx, t, taken); err != nil {
			return err
		}
	}
	if old != nil {
		d.left(old)
	}
	reads, names := maps.Clone(d.others), map[string]string{}
	for _, t := range d.set.Tables {
		key := d.key(t.Name())
		if names[key] != "" {
			d.finds(problem.Blocker, t.Table, "It is "+names[key]+", by a name that the warehouse does not tell from that.",
				"Choose another name.")
		}
		reads[key], names[key] = d.reads[t.Table], t.Table
	}
	order, err := derive.Order(reads)
	if err != nil {
		p := problem.Of(err)
		d.finds(problem.Blocker, "", p.What, p.Remedy)
		return nil
	}
	for _, key := range order {
		if names[key] != "" {
			d.out.Order = append(d.out.Order, names[key])
		}
	}
	return d.inputs(ctx, reads, order, taken)
}

func (d *deriving) finds(level problem.Level, table, what, remedy string) {
	d.out.Findings = append(d.out.Findings, problem.Finding{Level: level, Table: table, What: what, Remedy: remedy})
}

// taken are the names that feeds and other sets keep in the warehouse, with whose they are.
func (d *deriving) taken(ctx context.Context) (map[string]string, error) {
	taken := map[string]string{}
	targets, err := d.Store.Targets(ctx, &feed.Feed{Warehouse: d.set.Warehouse})
	if err != nil {
		return nil, err
	}
	for target, by := range targets {
		taken[d.key(target)] = by
	}
	sets, err := d.Store.DerivedSets(ctx, "")
	for _, s := range sets {
		if s.Warehouse != d.set.Warehouse || s.Name == d.set.Name {
			continue
		}
		for _, t := range s.Tables {
			key := d.key(t.Name())
			taken[key], d.others[key] = "the derived tables "+s.Name, s.States[t.Table].Reads
		}
	}
	return taken, err
}

// table looks at one table by itself.
func (d *deriving) table(ctx context.Context, t derive.Table, taken map[string]string) error {
	name := t.Name()
	if by, is := taken[d.key(name)]; is {
		d.finds(problem.Blocker, t.Table, fmt.Sprintf("%s is kept by %s already.", name.Display(), by), "Choose another name.")
	}
	if !d.may(strings.ToLower(name.Schema)) {
		d.forbidden = true
		d.finds(problem.Blocker, t.Table, fmt.Sprintf("You may not ask the schema %s, so you cannot make a table in it.",
			name.Schema), "An administrator lets you: noemata users change PERSON --ask "+d.set.Warehouse+"."+name.Schema)
	}
	reads, err := d.readsOf(ctx, t.Table, t.SQL)
	if err != nil {
		return err
	}
	for _, c := range t.Checks {
		if c.None == "" {
			continue
		}
		more, err := d.readsOf(ctx, t.Table, c.None)
		if err != nil {
			return err
		}
		reads = append(reads, slices.DeleteFunc(more, func(n string) bool { return n == d.key(name) })...)
	}
	slices.Sort(reads)
	d.reads[t.Table] = slices.Compact(reads)
	if t.Parts == nil {
		return nil
	}
	for _, input := range slices.Sorted(maps.Keys(t.Parts.Inputs)) {
		of, _ := schema.ParseName(input) // the file was checked
		if !slices.Contains(d.reads[t.Table], d.key(of)) {
			d.finds(problem.Blocker, t.Table, "Its parts name the input "+input+", which its SQL does not read.", "Correct the name.")
		}
	}
	return nil
}

// readsOf are the tables that a SELECT reads.
func (d *deriving) readsOf(ctx context.Context, table, sql string) (keys []string, err error) {
	reads, err := d.in.Reads(ctx, sql, d.may)
	if m := (*warehouse.Mistake)(nil); errors.As(err, &m) {
		d.forbidden = d.forbidden || m.State == "42501"
		d.finds(problem.Blocker, table, m.Placed(sql), "Change its SQL.")
		return nil, nil
	}
	for _, r := range reads {
		keys = append(keys, d.key(r))
	}
	return keys, err
}

// left tells of tables that the set had, and that its new file has no more.
func (d *deriving) left(old *derive.Set) {
	for _, t := range old.Tables {
		if !slices.ContainsFunc(d.set.Tables, func(n derive.Table) bool { return d.key(n.Name()) == d.key(t.Name()) }) {
			d.finds(problem.Note, t.Table, "The file has it no more. It stays in the warehouse as it is now, and is not made again.",
				"noemata derived drop "+problem.Word(d.set.Warehouse)+" "+problem.Word(t.Table)+" drops it.")
		}
	}
}

// inputs looks at what the tables read, and checks those whose inputs are all there.
func (d *deriving) inputs(ctx context.Context, reads derive.Reads, order []string, taken map[string]string) error {
	made, now, err := d.in.Derived(ctx)
	if err != nil {
		return err
	}
	of := map[string]derive.Table{}
	for _, t := range d.set.Tables {
		of[d.key(t.Name())] = t
	}
	var ready []derive.Table
	absent := map[string]bool{}
	for _, key := range order {
		t, ours := of[key]
		_, there := now[key]
		if _, derived := made[key]; ours && there && !derived && taken[key] == "" {
			d.finds(problem.Blocker, t.Table, "There is such a table, or view, that Noemata has not derived, and it is left as it is.",
				"Choose another name; or drop it, if nobody needs it.")
		}
		for _, input := range reads[key] {
			_, derived := reads[input]
			_, there := now[input]
			switch {
			case derived && (ours && of[input].Table != "" || there):
				absent[key] = absent[key] || absent[input]
			case !there:
				absent[key] = true
				if ours {
					d.finds(problem.Warning, t.Table, "It reads "+input+", which is not there yet: it is made, and checked, when it is.",
						"Correct the name, or let the feed run that brings it.")
				}
			case taken[input] == "" && ours && !d.set.TimesOf(t).Said():
				d.finds(problem.Warning, t.Table, "It reads "+input+", which no feed keeps: when its rows change, nobody notices.",
					"Say when to make it, as every: 1h.")
			}
		}
		if ours && !absent[key] {
			ready = append(ready, t)
		}
	}
	if slices.ContainsFunc(d.out.Findings, func(x problem.Finding) bool { return x.Level == problem.Blocker }) {
		return nil // what cannot be read cannot be checked
	}
	mistakes, err := d.in.Binds(ctx, ready)
	wrong := map[string]bool{}
	for _, t := range ready {
		m, key := mistakes[t.Table], d.key(t.Name())
		if m == nil {
			continue
		}
		wrong[key] = true
		if !slices.ContainsFunc(reads[key], func(input string) bool { return wrong[input] }) { // else it is wrong for that
			d.finds(problem.Blocker, t.Table, m.Placed(t.SQL), "Change its SQL, or what its file says of it.")
		}
	}
	return err
}

// DerivedSets lists the sets of derived tables, or gives one.
func (r *Rules) DerivedSets(ctx context.Context, name string) ([]records.DerivedSet, error) {
	found, err := r.Store.DerivedSets(ctx, name)
	list := []records.DerivedSet{}
	for _, s := range found {
		list = append(list, s.Status())
	}
	return list, err
}

// MakeDerived has tables of a set made now, all where none is named.
func (r *Rules) MakeDerived(ctx context.Context, set string, tables []string, by string) error {
	found, err := r.Store.DerivedSets(ctx, set)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if _, is := found[0].States[t]; !is {
			return problem.Newf(problem.NotFound, "noemata derived show "+problem.Word(set)+" lists them.",
				"The set %s has no table %q.", set, t)
		}
	}
	ctx, cancel := context.WithCancel(ctx) // the warehouse is used for no longer than this
	defer cancel()
	wh, err := r.Databases.Warehouse(ctx, found[0].Warehouse)
	if err != nil {
		return err
	}
	if file, there := wh.File(); file != "" && !there {
		return problem.Newf(problem.Conflict, "Let a feed run that brings something there first.",
			"The file of the warehouse %s is not there yet.", found[0].Warehouse)
	}
	return r.Store.WantDerived(ctx, set, tables, by)
}

// RemoveDerived forgets a set, and drops its tables where that is asked for.
func (r *Rules) RemoveDerived(ctx context.Context, name string, drop bool) error {
	found, err := r.Store.DerivedSets(ctx, name)
	if err != nil {
		return err
	}
	if !drop {
		return r.Store.RemoveDerivedSet(ctx, name)
	}
	if err := r.Store.SetDerivedActive(ctx, name, false); err != nil { // nothing is made again meanwhile
		return err
	}
	for _, t := range found[0].Tables {
		if err := r.drop(ctx, found[0].Warehouse, t.Name()); err != nil {
			return err
		}
	}
	return r.Store.RemoveDerivedSet(ctx, name)
}

func (r *Rules) drop(ctx context.Context, in string, name schema.Name) error {
	return r.inDerived(ctx, in, func(w warehouse.Deriving, _ warehouse.Names) error { return w.DropDerived(ctx, name) })
}

// inDerived does something in a warehouse where tables can be derived.
func (r *Rules) inDerived(ctx context.Context, in string, do func(warehouse.Deriving, warehouse.Names) error) error {
	ctx, cancel := context.WithCancel(ctx) // the warehouse is used for no longer than this
	defer cancel()
	wh, err := r.Databases.Warehouse(ctx, in)
	if err != nil {
		return err
	}
	w, ok := wh.(warehouse.Deriving)
	if !ok {
		return problem.Newf(problem.Invalid, "Name a warehouse that is a DuckDB file.",
			"No tables are derived in the warehouse %s.", in).In("warehouse")
	}
	return do(w, wh.Names())
}

// DropDerived drops a derived table that no set has any more.
func (r *Rules) DropDerived(ctx context.Context, in, table string) error {
	name, err := schema.ParseName(table)
	if err != nil {
		return problem.Newf(problem.Invalid, "Write it as schema.table.", "%v.", err)
	}
	sets, err := r.Store.DerivedSets(ctx, "")
	if err != nil {
		return err
	}
	return r.inDerived(ctx, in, func(w warehouse.Deriving, names warehouse.Names) error {
		for _, s := range sets {
			if s.Warehouse == in && slices.ContainsFunc(s.Tables, func(t derive.Table) bool {
				return names.KeyOf(t.Name()) == names.KeyOf(name)
			}) {
				return problem.Newf(problem.Conflict, "Take it out of the set's file first.",
					"The table %s is of the derived tables %s, which would make it again.", table, s.Name)
			}
		}
		return w.DropDerived(ctx, name)
	})
}
