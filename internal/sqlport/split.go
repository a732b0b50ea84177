package sqlport

import "strings"

// split parts the text of a simple query into statements at semicolons outside of quotes and comments (PostgreSQL,
// Lexical Structure). Empty ones are left out.
func split(text string) []string {
	var list []string
	from := 0
	add := func(to int) {
		if part := text[from:to]; strings.TrimSpace(uncommented(part)) != "" {
			list = append(list, part)
		}
		from = to + 1
	}
	for i := 0; i < len(text); {
		if text[i] == ';' {
			add(i)
			i++
			continue
		}
		i += token(text[i:])
	}
	if from < len(text) {
		add(len(text))
	}
	return list
}

// uncommented is a statement without its comments.
func uncommented(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); {
		n := token(text[i:])
		if part := text[i : i+n]; strings.HasPrefix(part, "--") || strings.HasPrefix(part, "/*") {
			b.WriteByte(' ')
		} else {
			b.WriteString(part)
		}
		i += n
	}
	return b.String()
}

// token is how many bytes a quoted text, a comment, or else one byte has that a text begins with.
func token(text string) int {
	upTo := func(end string, from int) int {
		if i := strings.Index(text[min(from, len(text)):], end); i >= 0 {
			return from + i + len(end)
		}
		return len(text)
	}
	switch {
	case text[0] == '\'' || text[0] == '"': // doubled quotes are two texts to this
		return upTo(text[:1], 1)
	case (text[0] == 'e' || text[0] == 'E') && len(text) > 1 && text[1] == '\'':
		for i := 2; i < len(text); i++ {
			switch text[i] {
			case '\\':
				i++
			case '\'':
				return i + 1
			}
		}
		return len(text)
	case strings.HasPrefix(text, "--"):
		return upTo("\n", 2)
	case strings.HasPrefix(text, "/*"):
		depth := 0
		for i := 0; i < len(text); i++ {
			switch {
			case strings.HasPrefix(text[i:], "/*"):
				depth, i = depth+1, i+1
			case strings.HasPrefix(text[i:], "*/"):
				if depth, i = depth-1, i+1; depth == 0 {
					return i + 1
				}
			}
		}
		return len(text)
	case text[0] == '$':
		if end := strings.IndexByte(text[1:], '$'); end >= 0 && isTag(text[1:1+end]) {
			return upTo(text[:end+2], end+2)
		}
	}
	return 1
}

func isTag(text string) bool {
	for i, r := range text {
		if !(r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80 || i > 0 && r >= '0' && r <= '9') {
			return false
		}
	}
	return true
}
