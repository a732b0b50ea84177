package shape

import (
	"fmt"
	"math/big"
	"reflect"
	"strconv"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// CEL has no decimals, so they are added: exact, compared with numbers of every type.
var (
	decimalType = cel.OpaqueType("decimal")
	decimalRef  = types.NewOpaqueType("decimal").WithTraits(traits.ComparerType | traits.AdderType |
		traits.SubtractorType | traits.MultiplierType | traits.NegatorType)
)

type decimal struct{ r *big.Rat }

// number reads a number of CEL; a double stands for the shortest decimal that is written so.
func number(v ref.Val) (*big.Rat, bool) {
	switch n := v.(type) {
	case decimal:
		return n.r, true
	case types.Int:
		return new(big.Rat).SetInt64(int64(n)), true
	case types.Uint:
		return new(big.Rat).SetUint64(uint64(n)), true
	case types.Double:
		return parseNumber(strconv.FormatFloat(float64(n), 'g', -1, 64))
	}
	return nil, false
}

func (d decimal) with(other ref.Val, do func(z, x, y *big.Rat) *big.Rat) ref.Val {
	n, ok := number(other)
	if !ok {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return decimal{do(new(big.Rat), d.r, n)}
}

func (d decimal) Add(other ref.Val) ref.Val      { return d.with(other, (*big.Rat).Add) }
func (d decimal) Subtract(other ref.Val) ref.Val { return d.with(other, (*big.Rat).Sub) }
func (d decimal) Multiply(other ref.Val) ref.Val { return d.with(other, (*big.Rat).Mul) }
func (d decimal) Negate() ref.Val                { return decimal{new(big.Rat).Neg(d.r)} }

func (d decimal) Compare(other ref.Val) ref.Val {
	n, ok := number(other)
	if !ok {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return types.Int(d.r.Cmp(n))
}

func (d decimal) Equal(other ref.Val) ref.Val {
	n, ok := number(other)
	return types.Bool(ok && d.r.Cmp(n) == 0)
}

func (d decimal) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a decimal is no %s", t)
}

func (d decimal) ConvertToType(t ref.Type) ref.Val {
	switch t {
	case types.StringType:
		return types.String(exact(d.r))
	case types.DoubleType:
		f, _ := d.r.Float64()
		return types.Double(f)
	case types.IntType:
		if d.r.IsInt() && d.r.Num().IsInt64() {
			return types.Int(d.r.Num().Int64())
		}
		return types.NewErr("integer overflow")
	case types.TypeType:
		return decimalRef
	}
	return types.NewErr("no such overload")
}

func (d decimal) Type() ref.Type { return decimalRef }
func (d decimal) Value() any     { return d.r }

// decimalOptions let expressions compare and compute with decimals that stand on the left.
func decimalOptions() []cel.EnvOption {
	options := []cel.EnvOption{
		cel.Function("decimal",
			cel.Overload("decimal_of_string", []*cel.Type{cel.StringType}, decimalType,
				cel.UnaryBinding(func(v ref.Val) ref.Val {
					r, ok := parseNumber(string(v.(types.String)))
					if !ok {
						return types.NewErr("no such number")
					}
					return decimal{r}
				})),
			cel.Overload("decimal_of_int", []*cel.Type{cel.IntType}, decimalType,
				cel.UnaryBinding(func(v ref.Val) ref.Val {
					return decimal{new(big.Rat).SetInt64(int64(v.(types.Int)))}
				}))),
		cel.Function("string", cel.Overload("string_of_decimal", []*cel.Type{decimalType}, cel.StringType)),
		cel.Function("double", cel.Overload("double_of_decimal", []*cel.Type{decimalType}, cel.DoubleType)),
		cel.Function("int", cel.Overload("int_of_decimal", []*cel.Type{decimalType}, cel.IntType)),
		cel.Function("-_", cel.Overload("negate_decimal", []*cel.Type{decimalType}, decimalType)),
	}
	for name, result := range map[string]*cel.Type{"_<_": cel.BoolType, "_<=_": cel.BoolType, "_>_": cel.BoolType,
		"_>=_": cel.BoolType, "_+_": decimalType, "_-_": decimalType, "_*_": decimalType} {
		for other, t := range map[string]*cel.Type{"decimal": decimalType, "int": cel.IntType,
			"double": cel.DoubleType} {
			options = append(options, cel.Function(name,
				cel.Overload(fmt.Sprintf("decimal_%s_%s", name, other), []*cel.Type{decimalType, t}, result)))
		}
	}
	return options
}
