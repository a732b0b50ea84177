package shape

import (
	"errors"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// expression is an expression in CEL (Common Expression Language, language definition of
// github.com/google/cel-spec) over the columns of a table. A column that is null has no value:
// what needs one has none either, and a filter leaves out what it has no answer for.
type expression struct {
	program cel.Program
	tree    ast.Expr
	table   schema.Table
	result  *cel.Type
	columns []string // that it names
	types   []schema.Type
	uses    []int // their places in what is read
}

// longestExpression is how many characters an expression may have. There are no macros, and so no
// loops, and no function that makes texts grow: what one costs for a row is bounded by its length
// and that of the values.
const longestExpression = 4000

// expression compiles an expression; at says where it stands in the feed.
func (c *compiler) expression(at, text string) (*expression, error) {
	wrong := func(what string) error {
		return problem.Newf(problem.Invalid, "Columns are called as at the source, texts stand in quotes, and "+
			"conditions are joined by && and ||. A decimal stands on the left of a comparison.",
			"%s of %s: %s", at, c.spec.Table, what)
	}
	if len(text) > longestExpression {
		return nil, wrong(fmt.Sprintf("The expression has %d characters, and %d are the most.", len(text),
			longestExpression))
	}
	options := []cel.EnvOption{ext.Math(), cel.DefaultUTCTimeZone(true),
		cel.EagerlyValidateDeclarations(true),
		cel.ParserRecursionLimit(100), cel.ClearMacros()}
	options = append(append(options, decimalOptions()...), textOptions()...)
	known := map[string]bool{}
	for _, column := range c.table.Columns {
		if t := celType(column.Type); t != nil && identifier.MatchString(column.Name) {
			options = append(options, cel.Variable(column.Name, t))
			known[column.Name] = true
		}
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", at, err)
	}
	checked, issues := env.Compile(text)
	if issues.Err() != nil {
		return nil, wrong(celFault(issues, text))
	}
	program, err := env.Program(checked, cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return nil, wrong(err.Error() + ".")
	}
	e := &expression{program: program, tree: checked.NativeRep().Expr(), table: c.table,
		result: checked.OutputType()}
	for _, r := range checked.NativeRep().ReferenceMap() {
		if known[r.Name] && !slices.Contains(e.columns, r.Name) {
			column, _ := c.table.Column(r.Name)
			e.columns, e.types = append(e.columns, r.Name), append(e.types, column.Type)
			c.used[r.Name] = true
		}
	}
	return e, nil
}

var identifier = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// celFault is what is wrong with an expression, and where.
func celFault(issues *cel.Issues, text string) string {
	var list []string
	for _, e := range issues.Errors() {
		where := ""
		if line := e.Location.Line(); line > 0 {
			where = fmt.Sprintf("at character %d", e.Location.Column()+1)
			if strings.Contains(strings.TrimSpace(text), "\n") {
				where = fmt.Sprintf("line %d, %s", line, where)
			}
			where += ": "
		}
		list = append(list, where+strings.ReplaceAll(e.Message, " (in container '')", ""))
	}
	return strings.Join(list, "; ") + "."
}

// celType is the type that a column has in an expression; nil where it has none.
func celType(t schema.Type) *cel.Type {
	switch t.Kind {
	case schema.Bool:
		return cel.NullableType(cel.BoolType)
	case schema.Int16, schema.Int32, schema.Int64:
		return cel.NullableType(cel.IntType)
	case schema.Float32, schema.Float64:
		return cel.NullableType(cel.DoubleType)
	case schema.Text, schema.UUID, schema.JSON, schema.Time:
		return cel.NullableType(cel.StringType)
	case schema.Bytes:
		return cel.NullableType(cel.BytesType)
	case schema.Date, schema.Timestamp, schema.TimestampTZ:
		return cel.TimestampType
	case schema.Decimal, schema.Numeric:
		return decimalType
	}
	return nil
}

// place finds the columns of the expression in a table that is read.
func (e *expression) place(reads schema.Table) { e.uses = schema.Indexes(reads.Columns, e.columns) }

func (e *expression) isBool() bool {
	return e.result.IsExactType(cel.BoolType) || e.result.IsExactType(cel.NullableType(cel.BoolType)) ||
		e.result.IsExactType(cel.DynType)
}

func (e *expression) typeName() string {
	return strings.TrimSuffix(strings.TrimPrefix(e.result.String(), "wrapper("), ")")
}

// gives is the type in a warehouse of what the expression gives.
func (e *expression) gives() (schema.Type, bool) {
	if e.result.IsExactType(decimalType) {
		return schema.Type{Kind: schema.Numeric}, true
	}
	for kind, t := range map[schema.Kind]*cel.Type{schema.Bool: cel.BoolType, schema.Int64: cel.IntType,
		schema.Float64: cel.DoubleType, schema.Text: cel.StringType, schema.TimestampTZ: cel.TimestampType} {
		if e.result.IsExactType(t) || e.result.IsExactType(cel.NullableType(t)) {
			return schema.Type{Kind: kind}, true
		}
	}
	return schema.Type{}, false
}

// answers evaluates an expression over rows.
type answers struct {
	e      *expression
	values []func(row int) ref.Val
	row    int
	lacks  bool // a column that was asked for is null
}

func (e *expression) over(in input) *answers {
	a := &answers{e: e}
	for i, place := range e.uses {
		a.values = append(a.values, valueOf(in.columns[place], e.types[i]))
	}
	return a
}

// ResolveName gives the value of a column (cel.Activation).
func (a *answers) ResolveName(name string) (any, bool) {
	i := slices.Index(a.e.columns, name)
	if i < 0 {
		return nil, false
	}
	v := a.values[i](a.row)
	if v == types.NullValue {
		a.lacks = true
	}
	return v, true
}

// Parent is none (cel.Activation).
func (a *answers) Parent() cel.Activation { return nil }

// eval gives the value of a row; nil where it has none.
func (a *answers) eval(row int) (ref.Val, error) {
	a.row, a.lacks = row, false
	v, _, err := a.e.program.Eval(a)
	switch {
	case err != nil && a.lacks && strings.Contains(err.Error(), "no such overload"):
		return nil, nil
	case err != nil:
		return nil, told(err)
	case v == types.NullValue:
		return nil, nil
	}
	return v, nil
}

// told says what went wrong without a value of the row.
func told(err error) error {
	for _, known := range []string{"division by zero", "modulus by zero", "integer overflow",
		"unsigned integer overflow",
		"timestamp overflow", "duration overflow", "no such key", "index out of bounds"} {
		if strings.Contains(err.Error(), known) {
			return errors.New(known)
		}
	}
	return errors.New("the expression has no answer for its values")
}

// is tells whether the expression is true of a row.
func (a *answers) is(row int) (bool, error) {
	v, err := a.eval(row)
	if v == nil || err != nil {
		return false, err
	}
	yes, ok := v.(types.Bool)
	if !ok {
		return false, errors.New("the answer is neither true nor false")
	}
	return bool(yes), nil
}

// text is what the expression gives for a row, as schema.CellText writes it.
func (a *answers) text(row int) (string, bool, error) {
	v, err := a.eval(row)
	if v == nil || err != nil {
		return "", false, err
	}
	switch v := v.(type) {
	case types.Bool:
		return strconv.FormatBool(bool(v)), true, nil
	case types.Int:
		return strconv.FormatInt(int64(v), 10), true, nil
	case types.Uint:
		return strconv.FormatUint(uint64(v), 10), true, nil
	case types.Double:
		return strconv.FormatFloat(float64(v), 'g', -1, 64), true, nil
	case types.String:
		text, err := short(string(v))
		return text, err == nil, err
	case decimal:
		return exact(v.r), true, nil
	case types.Timestamp:
		return schema.TimestampTZText(v.UnixMicro()), true, nil
	}
	return "", false, fmt.Errorf("it gives %s, which cannot be stored", v.Type().TypeName())
}

// valueOf gives the values of a column to an expression.
func valueOf(column arrow.Array, t schema.Type) func(row int) ref.Val {
	var value func(row int) ref.Val
	at := func(us int64) ref.Val { return types.Timestamp{Time: time.UnixMicro(us).UTC()} }
	switch c := column.(type) {
	case *array.Boolean:
		value = func(row int) ref.Val { return types.Bool(c.Value(row)) }
	case *array.Int16:
		value = func(row int) ref.Val { return types.Int(c.Value(row)) }
	case *array.Int32:
		value = func(row int) ref.Val { return types.Int(c.Value(row)) }
	case *array.Int64:
		value = func(row int) ref.Val { return types.Int(c.Value(row)) }
	case *array.Float32:
		value = func(row int) ref.Val { return types.Double(c.Value(row)) }
	case *array.Float64:
		value = func(row int) ref.Val { return types.Double(c.Value(row)) }
	case *array.Binary:
		value = func(row int) ref.Val { return types.Bytes(c.Value(row)) }
	case *array.Date32:
		value = func(row int) ref.Val { return at(bounded(int64(c.Value(row)) * 86400e6)) }
	case *array.Timestamp:
		value = func(row int) ref.Val { return at(bounded(int64(c.Value(row)))) }
	case *array.Decimal128:
		scale := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Scale)), nil)
		value = func(row int) ref.Val { return decimal{new(big.Rat).SetFrac(c.Value(row).BigInt(), scale)} }
	case *array.String:
		value = func(row int) ref.Val { return types.String(c.Value(row)) }
		if t.Kind == schema.Numeric {
			value = func(row int) ref.Val {
				r, ok := parseNumber(c.Value(row))
				if !ok { // NaN and infinities compare with nothing
					return types.NullValue
				}
				return decimal{r}
			}
		}
	default:
		value = func(row int) ref.Val {
			text, _ := schema.CellText(column, row, t)
			return types.String(text)
		}
	}
	return func(row int) ref.Val {
		if column.IsNull(row) {
			return types.NullValue
		}
		return value(row)
	}
}

// The moments that CEL can tell, in microseconds since 1970: the years 1 to 9999. What lies
// beyond is taken for the nearest, so that comparisons hold.
const (
	firstMoment = -62135596800 * 1e6
	lastMoment  = 253402300799*1e6 + 999999
)

func bounded(us int64) int64 { return max(firstMoment, min(us, lastMoment)) }
