package records

import (
	"encoding/json"
	"path"
	"slices"
	"strings"
	"time"
)

// Role is what a token lets its holder do.
type Role string

// The roles. Each may what the ones before it may.
const (
	Look       Role = "look"       // see feeds, runs, proofs and what is wrong
	Operate    Role = "operate"    // run, pause and change feeds, prove and repair; read at sources
	Administer Role = "administer" // connections, keys, tokens, statements at databases, the record of changes
)

var ranks = map[Role]int{Look: 1, Operate: 2, Administer: 3}

// May tells whether the role includes another one.
func (r Role) May(need Role) bool { return ranks[r] >= ranks[need] && ranks[need] > 0 }

// NewToken is a token that is asked for.
type NewToken struct {
	Name      string     `json:"name" minLength:"1" maxLength:"100" doc:"Whose it is, or what for"`
	Role      Role       `json:"role,omitempty" enum:"look,operate,administer" default:"administer" doc:"What it lets its holder do: look; operate (run, pause and change feeds, prove and repair); administer"`
	Label     string     `json:"label,omitempty" maxLength:"140" doc:"Of feeds: only those with this label, a name or name=value; not for role administer"`
	Asks      []string   `json:"asks,omitempty" maxItems:"100" doc:"What it may ask in SQL: warehouses, as lake, or schemas of them, as lake.kept; * stands for any letters. Whoever administers may ask all"`
	ExpiresAt *time.Time `json:"expires_at,omitempty" doc:"From when on it is not taken any more"`
}

// Token is what programs and people sign in with.
type Token struct {
	ID         int64      `json:"id"`
	Name       string     `json:"name"`
	Role       Role       `json:"role" enum:"look,operate,administer"`
	Label      string     `json:"label,omitempty" doc:"Of feeds: only those with this label"`
	Asks       []string   `json:"asks,omitempty" doc:"What it may ask in SQL: warehouses, or schemas of them"`
	Secret     string     `json:"secret,omitempty" doc:"The token itself, shown once, when it is made"`
	CreatedAt  time.Time  `json:"created_at"`
	ExpiresAt  *time.Time `json:"expires_at,omitempty"`
	LastUsedAt *time.Time `json:"last_used_at,omitempty"`
}

// MayAsk tells which schemas of a warehouse may be asked, and whether any may. What Noemata keeps for itself is
// asked by nobody.
func (t Token) MayAsk(warehouse string) (may func(schema string) bool, any bool) {
	var schemas []string
	for _, a := range t.Asks {
		of, schema, some := strings.Cut(a, ".")
		if fits, err := path.Match(of, warehouse); err != nil || !fits {
			continue
		}
		if !some {
			schema = "*"
		}
		schemas = append(schemas, strings.ToLower(schema))
	}
	if t.Role == Administer {
		schemas = []string{"*"}
	}
	return func(schema string) bool {
		return schema != "noemata" && slices.ContainsFunc(schemas, func(pattern string) bool {
			fits, err := path.Match(pattern, strings.ReplaceAll(schema, "/", "_"))
			return err == nil && fits
		})
	}, len(schemas) > 0
}

// Session is a sign-in of the console.
type Session struct {
	ID        int64     `json:"id"`
	Token     string    `json:"token" doc:"The name of the person, or of the token, that signed in"`
	Address   string    `json:"address,omitempty" doc:"Where it came from"`
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// ChangeMade is something that a person or a program has changed, or was not let change.
type ChangeMade struct {
	ID        int64           `json:"id"`
	At        time.Time       `json:"at"`
	By        string          `json:"by" doc:"The name of the token"`
	Address   string          `json:"address" doc:"Where the request came from"`
	Operation string          `json:"operation" doc:"The call, as the API's description names it"`
	About     string          `json:"about" doc:"What it is about, such as: feed loans"`
	Status    int             `json:"status" doc:"The answer's, as HTTP has it: 200 and so on where it was done, 403 where it was not allowed"`
	Asked     json.RawMessage `json:"asked,omitempty" doc:"What was asked for, without secrets"`
	Before    json.RawMessage `json:"before,omitempty"`
	After     json.RawMessage `json:"after,omitempty"`
}

// NewUser is a person who is to sign in by name and password.
type NewUser struct {
	Name     string   `json:"name" minLength:"1" maxLength:"100" doc:"How the person signs in"`
	Role     Role     `json:"role" enum:"look,operate,administer" doc:"What the person may do"`
	Label    string   `json:"label,omitempty" maxLength:"140" doc:"Of feeds: only those with this label, a name or name=value; not for role administer"`
	Asks     []string `json:"asks,omitempty" maxItems:"100" doc:"What the person may ask in SQL: warehouses, as lake, or schemas of them, as lake.kept; * stands for any letters. Whoever administers may ask all"`
	Password string   `json:"password,omitempty" maxLength:"72" doc:"12 characters or more, 72 bytes at most; kept as a bcrypt hash. Of a change: left out, it stays"`
}

// User is a person who signs in by name, here or at a provider of sign-ins.
type User struct {
	Name       string     `json:"name"`
	Role       Role       `json:"role" enum:"look,operate,administer"`
	Label      string     `json:"label,omitempty" doc:"Of feeds: only those with this label"`
	Asks       []string   `json:"asks,omitempty" doc:"What the person may ask in SQL: warehouses, or schemas of them"`
	Elsewhere  bool       `json:"elsewhere" doc:"Whether a provider signs the person in, and says the role"`
	CreatedAt  time.Time  `json:"created_at"`
	LastUsedAt *time.Time `json:"last_used_at,omitempty" doc:"When the person signed in last"`
}

// Ways are how the console can be signed in to.
type Ways struct {
	Passwords bool   `json:"passwords" doc:"By name and password"`
	Provider  string `json:"provider,omitempty" doc:"At a provider of sign-ins, by the name that people know it by"`
}
