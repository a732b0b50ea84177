package problem_test

import (
	"errors"
	"os/exec"
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

// A word of a command is read back by a shell as it was.
func TestWordsOfCommands(t *testing.T) {
	for text, want := range map[string]string{
		"public.loans": "public.loans", "live-2": "live-2", "00000000/02F3C720": "00000000/02F3C720", "": "''",
		`public."Book s"`: `'public."Book s"'`, "it's": `'it'\''s'`, "$(reboot)": `'$(reboot)'`, "a;b": "'a;b'",
		"é": "'é'", "~": "'~'", "2026-01-01 09:00": "'2026-01-01 09:00'",
	} {
		require.Equal(t, want, problem.Word(text))
		said, err := exec.Command("sh", "-c", "printf %s "+problem.Word(text)).Output()
		require.NoError(t, err)
		require.Equal(t, text, string(said))
	}
}
