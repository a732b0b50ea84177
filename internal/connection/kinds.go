package connection

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"noemata/internal/core/problem"
)

// Kind is how databases of one kind are opened as T, a source or a warehouse.
type Kind[T any] struct {
	// Check tells whether the settings can be right, and fills in the usual ones.
	Check func(Settings) (Settings, error)
	// Open prepares a connection; what names the database in messages.
	Open func(s Settings, what string) (T, error)
}

// Kinds are the kinds that are known, by name.
type Kinds[T any] struct {
	noun  string
	known map[string]Kind[T]
}

// NewKinds makes an empty list; noun is "source" or "warehouse".
func NewKinds[T any](noun string) *Kinds[T] { return &Kinds[T]{noun, map[string]Kind[T]{}} }

// Register makes a kind known.
func (k *Kinds[T]) Register(name string, kind Kind[T]) { k.known[name] = kind }

// Names lists the kinds in order.
func (k *Kinds[T]) Names() []string { return slices.Sorted(maps.Keys(k.known)) }

// Check has a kind check settings.
func (k *Kinds[T]) Check(name string, s Settings) (Settings, error) {
	kind, err := k.find(name)
	if err != nil {
		return s, err
	}
	return kind.Check(s)
}

// Open opens a database of a kind.
func (k *Kinds[T]) Open(name string, s Settings, what string) (T, error) {
	kind, err := k.find(name)
	if err != nil {
		var none T
		return none, err
	}
	return kind.Open(s, what)
}

func (k *Kinds[T]) find(name string) (Kind[T], error) {
	kind, ok := k.known[name]
	if !ok {
		return kind, problem.New(problem.Invalid, fmt.Sprintf("%q is not a kind of %s.", name, k.noun), "Known kinds: "+
			strings.Join(k.Names(), ", ")+".").In("kind")
	}
	return kind, nil
}
