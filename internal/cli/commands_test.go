package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"
)

// leaves are the commands that do something.
func leaves(c *cobra.Command) (list []*cobra.Command) {
	for _, child := range c.Commands() {
		list = append(list, leaves(child)...)
	}
	if !c.HasSubCommands() {
		list = append(list, c)
	}
	return list
}

// Each command has examples, and each of them is a line that the command takes.
func TestExamplesAreLinesThatRun(t *testing.T) {
	root := New("test", nil)
	known := map[string]bool{}
	words := regexp.MustCompile(`'[^']*'|\S+`)
	for _, c := range leaves(root) {
		path := strings.TrimPrefix(c.CommandPath(), "noemata ")
		known[path] = true
		require.NotEmpty(t, c.Example, "%s has no example", path)
		of := 0
		for line := range strings.Lines(c.Example) {
			for part := range strings.SplitSeq(line, " | ") {
				part, _, _ = strings.Cut(part, " > ")
				part, _, _ = strings.Cut(part, " < ")
				args := words.FindAllString(part, -1)
				if args[0] != "noemata" {
					continue
				}
				for i := range args {
					args[i] = strings.Trim(args[i], "'")
				}
				found, rest, err := New("test", nil).Find(args[1:])
				require.NoError(t, err, part)
				if found.CommandPath() == c.CommandPath() {
					of++
				}
				require.NoError(t, found.ParseFlags(rest), part)
				require.NoError(t, found.ValidateArgs(found.Flags().Args()), part)
			}
		}
		require.Positive(t, of, "no example of %s is one of it", path)
	}
	for path := range examples {
		require.True(t, known[path], "there is no command %s", path)
	}
}

func TestWordsAndPages(t *testing.T) {
	run := func(args ...string) (string, error) {
		var out bytes.Buffer
		root := New("1.2.3", nil)
		root.SetArgs(args)
		root.SetOut(&out)
		err := root.Execute()
		return out.String(), err
	}
	said, err := run("words")
	require.NoError(t, err)
	require.Len(t, strings.Split(strings.TrimSpace(said), "\n"), len(glossary))
	said, err = run("words", "Set", "aside")
	require.NoError(t, err)
	require.Contains(t, said, "cannot be stored as it is")
	said, err = run("words", "watermarks", "-o", "json")
	require.NoError(t, err)
	require.JSONEq(t, `{"watermark": "`+glossary["watermark"]+`"}`, said)
	_, err = run("words", "tide")
	require.ErrorContains(t, err, `noemata words has no "tide"`)

	dir := t.TempDir()
	_, err = run("man", dir)
	require.NoError(t, err)
	for _, c := range append(leaves(New("", nil)), New("", nil)) {
		content, err := os.ReadFile(filepath.Join(dir, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"))
		require.NoError(t, err)
		require.Contains(t, string(content), ".TH \"NOEMATA\"")
	}
	_, err = run("man", filepath.Join(dir, "none"))
	require.ErrorContains(t, err, "cannot be written")
}
