package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"noemata/internal/testkit"
)

// The package for Debian holds the program, its unit, its manual pages and what monitors need; the program in it
// runs.
func TestPackage(t *testing.T) {
	t.Parallel() // beside others that wait
	out, tree := testkit.Dir(t), testkit.Dir(t)
	pack := exec.Command(filepath.Join("..", "deploy", "package.sh"), "1.2.3", program, out)
	pack.Env = append(os.Environ(), "DPKG_DEB_COMPRESSOR_TYPE=none") // a larger package, much sooner
	said, err := pack.CombinedOutput()
	require.NoError(t, err, string(said))
	found, err := filepath.Glob(filepath.Join(out, "noemata_1.2.3_*.deb"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	for _, args := range [][]string{{"-x", found[0], tree}, {"-e", found[0], filepath.Join(tree, "DEBIAN")}} {
		said, err := exec.Command("dpkg-deb", args...).CombinedOutput()
		require.NoError(t, err, string(said))
	}
	said, err = exec.Command(filepath.Join(tree, "usr/bin/noemata"), "serve", "--help").CombinedOutput()
	require.NoError(t, err, string(said))
	for _, name := range []string{"lib/systemd/system/noemata.service", "etc/default/noemata",
		"usr/share/man/man1/noemata-serve.1.gz",
		"usr/share/doc/noemata/alert-rules.yml", "usr/share/doc/noemata/dashboard.json"} {
		require.FileExists(t, filepath.Join(tree, name))
	}
	for _, script := range []string{"postinst", "prerm", "postrm"} {
		said, err := exec.Command("sh", "-n", filepath.Join(tree, "DEBIAN", script)).CombinedOutput()
		require.NoError(t, err, string(said))
	}
	unit, err := os.ReadFile(filepath.Join(tree, "lib/systemd/system/noemata.service"))
	require.NoError(t, err)
	options := regexp.MustCompile(`(?m)^ExecStart=/usr/bin/noemata (.*) \$NOEMATA_OPTIONS$`).FindSubmatch(unit)
	require.NotNil(t, options)
	defaults, err := os.ReadFile(filepath.Join(tree, "etc/default/noemata"))
	require.NoError(t, err)
	given := regexp.MustCompile(`(?m)^NOEMATA_OPTIONS="(.*)"$`).FindSubmatch(defaults)
	require.NotNil(t, given)
	said, err = exec.Command(program, append(strings.Fields(string(options[1])+" "+string(given[1])),
		"--help")...).CombinedOutput()
	require.NoError(t, err, string(said))
	if analyze, err := exec.LookPath("systemd-analyze"); err == nil {
		said, err := exec.Command(analyze, "verify", "--root", tree, "noemata.service").CombinedOutput()
		require.NotContains(t, string(said), "Unknown", string(said))
		require.NotContains(t, string(said), "Failed to parse", string(said))
		_ = err // it may find fault with units that this machine lacks
	}
}

// Each metric that rules and dashboard name is one that the service has.
func TestRulesAndDashboardNameMetrics(t *testing.T) {
	s := newService(t)
	s.addPatrons(1, "duckdb", "")
	require.Equal(t, "done", s.finish("patrons").State)
	var metrics []byte
	require.Eventually(t, func() bool { // a run is counted just after its end is on record
		r, err := http.NewRequestWithContext(t.Context(), "GET", s.address+"/metrics", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+s.token)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer func() { _ = answer.Body.Close() }()
		metrics, err = io.ReadAll(answer.Body)
		require.NoError(t, err)
		return strings.Contains(string(metrics), "noemata_runs_total")
	}, 20*time.Second, 200*time.Millisecond)
	rules, err := os.ReadFile("../deploy/alert-rules.yml")
	require.NoError(t, err)
	var parsed struct {
		Groups []struct {
			Rules []struct {
				Alert, Expr string
				Annotations map[string]string
			}
		}
	}
	require.NoError(t, yaml.Unmarshal(rules, &parsed))
	board, err := os.ReadFile("../deploy/dashboard.json")
	require.NoError(t, err)
	require.True(t, json.Valid(board))
	named := regexp.MustCompile(`noemata_[a-z_]+`).FindAllString(string(rules)+string(board), -1)
	require.Greater(t, len(named), 10)
	for _, name := range named {
		if name == "noemata_feed_log_retained_bytes" { // of feeds that follow a log alone
			continue
		}
		require.Contains(t, string(metrics), "\n"+name, "%s is in no metric", name)
	}
	for _, rule := range parsed.Groups[0].Rules {
		require.NotEmpty(t, rule.Expr, rule.Alert)
		require.NotEmpty(t, rule.Annotations["remedy"], rule.Alert)
	}
}
