package problem_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/problem"
)

// A fault that is overlooked is an error of its run, with its place for the log.
func TestAPanicIsAProblem(t *testing.T) {
	var bytes []byte
	err := problem.Guarded(func() error {
		_ = bytes[3]
		return nil
	})()
	var fault *problem.Panic
	require.ErrorAs(t, err, &fault)
	require.Contains(t, string(fault.Stack), "recover_test.go")
	p := problem.Of(err)
	require.Contains(t, p.What, "index out of range")
	require.NotContains(t, p.What+p.Remedy, "recover_test.go", "a person is not shown the stack")
	require.False(t, problem.OfTable(err))
	require.NoError(t, problem.Guarded(func() error { return nil })())
	require.ErrorIs(t, problem.Guarded(func() error { return errors.ErrUnsupported })(), errors.ErrUnsupported)
}
