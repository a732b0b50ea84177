package shape

import (
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"noemata/internal/core/condition"
	"noemata/internal/core/schema"
)

// Pushed is what of the filter a server can be asked: rows of which it is false need not be read, for the
// filter leaves them out. ok is false where there is nothing of the kind. Asked are comparisons of a column
// with a constant: of integers, decimals, dates and moments all of them, of texts and truth values for
// equality, of any column whether it is null, joined by &&, || and !.
func (s *Shape) Pushed() (asked condition.Condition, ok bool) {
	if s.filter == nil {
		return asked, false
	}
	asked = s.filter.asked(s.filter.tree)
	return asked, asked.Asks()
}

var compares = map[string]condition.Op{operators.Equals: condition.Equal, operators.Less: condition.Less,
	operators.LessEquals: condition.LessEqual, operators.Greater: condition.Greater,
	operators.GreaterEquals: condition.GreaterEqual}

// turned is the comparison whose sides are exchanged.
var turned = map[condition.Op]condition.Op{condition.Equal: condition.Equal, condition.Less: condition.Greater,
	condition.LessEqual: condition.GreaterEqual, condition.Greater: condition.Less,
	condition.GreaterEqual: condition.LessEqual}

func (e *expression) asked(x ast.Expr) condition.Condition {
	if x.Kind() == ast.IdentKind {
		return e.compared(condition.Equal, x, types.True)
	}
	if x.Kind() != ast.CallKind {
		return condition.Condition{}
	}
	call := x.AsCall()
	args := call.Args()
	join := func(op condition.Op) condition.Condition {
		made := condition.Condition{Op: op}
		for _, arg := range args {
			made.Args = append(made.Args, e.asked(arg))
		}
		return made
	}
	switch name := call.FunctionName(); name {
	case operators.LogicalAnd:
		return join(condition.And)
	case operators.LogicalOr:
		return join(condition.Or)
	case operators.LogicalNot:
		return join(condition.Not)
	case operators.NotEquals:
		return condition.Condition{Op: condition.Not, Args: []condition.Condition{
			e.either(condition.Equal, args[0], args[1])}}
	case operators.In:
		return e.in(args[0], args[1])
	default:
		if op, ok := compares[name]; ok {
			return e.either(op, args[0], args[1])
		}
	}
	return condition.Condition{}
}

// in is the condition that a column has one of several values.
func (e *expression) in(column, list ast.Expr) condition.Condition {
	if list.Kind() != ast.ListKind || len(list.AsList().Elements()) == 0 {
		return condition.Condition{}
	}
	any := condition.Condition{Op: condition.Or}
	for _, element := range list.AsList().Elements() {
		any.Args = append(any.Args, e.either(condition.Equal, column, element))
	}
	return any
}

// either compares a column with a constant, on whichever side they stand.
func (e *expression) either(op condition.Op, left, right ast.Expr) condition.Condition {
	if left.Kind() != ast.IdentKind {
		left, right, op = right, left, turned[op]
	}
	if left.Kind() != ast.IdentKind {
		return condition.Condition{}
	}
	return e.compared(op, left, constant(right))
}

// constant is what an expression stands for that needs no row; nil where there is no telling.
func constant(x ast.Expr) any {
	switch x.Kind() {
	case ast.LiteralKind:
		return x.AsLiteral()
	case ast.CallKind:
		call := x.AsCall()
		if len(call.Args()) != 1 || call.Args()[0].Kind() != ast.LiteralKind {
			return nil
		}
		text, ok := call.Args()[0].AsLiteral().(types.String)
		switch {
		case !ok:
		case call.FunctionName() == "timestamp":
			if at, err := time.Parse(time.RFC3339Nano, string(text)); err == nil {
				return at
			}
		case call.FunctionName() == "decimal":
			if r, ok := parseNumber(string(text)); ok {
				return decimal{r}
			}
		}
	}
	return nil
}

// compared compares a column with a constant, where servers do it as it is done here.
func (e *expression) compared(op condition.Op, ident ast.Expr, with any) condition.Condition {
	c, ok := e.table.Column(ident.AsIdent())
	if !ok {
		return condition.Condition{}
	}
	made := condition.Condition{Op: op, Column: c}
	switch v := with.(type) {
	case types.Null:
		// What a server cannot tell from a null, or what arrives as one: moments and numbers that are none.
		switch c.Type.Kind {
		case schema.Bool, schema.Int16, schema.Int32, schema.Int64, schema.Decimal, schema.Text:
			ok = op == condition.Equal
			made.Op = condition.IsNull
		default:
			ok = false
		}
	case types.Bool:
		made.Value, ok = strconv.FormatBool(bool(v)), c.Type.Kind == schema.Bool && op == condition.Equal
	case types.Int:
		made.Value, ok = strconv.FormatInt(int64(v), 10), isInteger(c.Type) || isDecimal(c.Type)
	case types.String:
		made.Value, ok = string(v), c.Type.Kind == schema.Text && op == condition.Equal && plainText(string(v))
	case types.Double, decimal:
		n, _ := number(v.(ref.Val))
		made.Value = exact(n)
		ok = isDecimal(c.Type) && len(made.Value) <= longestDecimal
	case time.Time:
		made.Value, ok = momentOf(c.Type.Kind, v)
	default:
		ok = false
	}
	if !ok {
		return condition.Condition{}
	}
	return made
}

// longestDecimal is a length up to which every server takes a decimal as it is written: MariaDB has 30
// digits after the point (mariadb.com/kb/en/decimal).
const longestDecimal = 30

func isInteger(t schema.Type) bool {
	return t.Kind == schema.Int16 || t.Kind == schema.Int32 || t.Kind == schema.Int64
}

func isDecimal(t schema.Type) bool { return t.Kind == schema.Decimal || t.Kind == schema.Numeric }

// plainText tells whether a text is the same bytes in every character set that servers have.
func plainText(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' || r == '\\' })
}

// momentOf writes a moment as a value of a column, where it can have it and every server can.
func momentOf(kind schema.Kind, at time.Time) (string, bool) {
	us := at.UnixMicro()
	if at.Year() < 1971 || at.Year() > 2037 || at.Nanosecond()%1000 != 0 {
		return "", false
	}
	switch kind {
	case schema.TimestampTZ:
		return schema.TimestampTZText(us), true
	case schema.Timestamp:
		return schema.TimestampText(us), true
	case schema.Date:
		return at.UTC().Format(time.DateOnly), us%86400e6 == 0
	}
	return "", false
}
