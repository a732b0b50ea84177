package shape

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// Functions on texts beside CEL's own, under the names that its extensions have for them. Those
// that make a text longer than what it is made of are left out: a few in a row could make one of
// any length. Places are counted in characters, from 0.

// longestText is how long a text may be that an expression makes, in bytes.
const longestText = 16 << 20

func textOptions() []cel.EnvOption {
	text, whole := cel.StringType, cel.IntType
	alone := func(name string, do func(string) string) cel.EnvOption {
		return cel.Function(name, cel.MemberOverload("text_"+name, []*cel.Type{text}, text,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return types.String(do(string(v.(types.String)))) })))
	}
	return []cel.EnvOption{
		alone("lowerAscii", func(s string) string { return ascii(s, 'A', 'Z', 0x20) }),
		alone("upperAscii", func(s string) string { return ascii(s, 'a', 'z', 0xe0) }),
		alone("trim", strings.TrimSpace),
		cel.Function("indexOf", cel.MemberOverload("text_indexOf", []*cel.Type{text, text}, whole,
			cel.BinaryBinding(func(s, part ref.Val) ref.Val {
				before, _, found := strings.Cut(string(s.(types.String)), string(part.(types.String)))
				if !found {
					return types.Int(-1)
				}
				return types.Int(utf8.RuneCountInString(before))
			}))),
		cel.Function("substring",
			cel.MemberOverload("text_substring_from", []*cel.Type{text, whole}, text,
				cel.BinaryBinding(func(s, from ref.Val) ref.Val { return substring(s, from, types.Int(-1)) })),
			cel.MemberOverload("text_substring_between", []*cel.Type{text, whole, whole}, text,
				cel.FunctionBinding(func(args ...ref.Val) ref.Val {
					if to := args[2].(types.Int); to < 0 {
						return types.NewErr("index out of bounds")
					}
					return substring(args[0], args[1], args[2])
				}))),
	}
}

// ascii changes the letters between two by a number that is added to them.
func ascii(s string, first, last, by byte) string {
	b := []byte(s)
	for i, c := range b {
		if c >= first && c <= last {
			b[i] = c + by
		}
	}
	return string(b)
}

// substring gives the characters from one place to before another; -1 is the end.
func substring(s, from, to ref.Val) ref.Val {
	runes := []rune(string(s.(types.String)))
	low, high := int64(from.(types.Int)), int64(to.(types.Int))
	if high < 0 {
		high = int64(len(runes))
	}
	if low < 0 || low > high || high > int64(len(runes)) {
		return types.NewErr("index out of bounds")
	}
	return types.String(runes[low:high])
}

// short makes sure that a text is not longer than may be made.
func short(s string) (string, error) {
	if len(s) > longestText {
		return "", fmt.Errorf("it gives a text of more than %d MB", longestText>>20)
	}
	return s, nil
}
