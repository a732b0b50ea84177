package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are lines that run, by command.
var examples = map[string]string{
	"about":   "noemata about",
	"openapi": "noemata openapi > openapi.json",
	"serve":   "noemata serve --data /var/lib/noemata",
	"demo":    "noemata demo\nnoemata demo --check",
	"sign-in": "noemata sign-in --address http://127.0.0.1:8420 --token noe_…",
	"words":   "noemata words\nnoemata words watermark",
	"man":     "noemata man /usr/local/share/man/man1",
	"prove":   "noemata prove circulation-lake\nnoemata prove circulation-lake public.loans",
	"ask": "noemata ask lake 'TABLE live.loans LIMIT 10'\n" +
		"noemata ask lake 'FROM live.loans WHERE branch = $1' --value Dornheim --output parquet --file loans.parquet",
	"export": "noemata export lake --tables 'live.*' --to /srv/copies/live\n" +
		"noemata export lake --tables live.loans --partition-by 'month(lent_at)' --changed --to /srv/copies/loans --every 1h",
	"derived apply":    "noemata derived apply reading.yaml",
	"derived check":    "noemata derived check reading.yaml",
	"derived diff":     "noemata derived diff reading.yaml",
	"derived export":   "noemata derived export reading > reading.yaml",
	"derived list":     "noemata derived list",
	"derived show":     "noemata derived show reading",
	"derived make":     "noemata derived make reading\nnoemata derived make reading reading.loans_by_title",
	"derived makings":  "noemata derived makings reading --limit 10",
	"derived stop":     "noemata derived stop 12",
	"derived start":    "noemata derived start reading",
	"derived pause":    "noemata derived pause reading",
	"derived remove":   "noemata derived remove reading --drop",
	"derived drop":     "noemata derived drop lake reading.loans_by_title",
	"marks list":       "noemata marks list archive",
	"marks add":        "noemata marks add archive before-the-move --keep 90d",
	"marks remove":     "noemata marks remove archive before-the-move",
	"questions list":   "noemata questions list --running",
	"questions stop":   "noemata questions stop 12",
	"questions saved":  "noemata questions saved",
	"questions save":   "noemata questions save loans-by-branch lake 'TABLE live.loans'",
	"questions unsave": "noemata questions unsave loans-by-branch",
	"sample":           "noemata sample circulation-lake public.loans",
	"versions":         "noemata versions circulation-live public.patrons 4711",
	"alerts":           "noemata alerts\nnoemata alerts --all",
	"channels list":    "noemata channels list",
	"channels add": "noemata channels add desk --url https://alerts.example/noemata --secret-stdin\n" +
		"noemata channels add nights --host mail.example --user noemata --from noemata@lending.example --to " +
		"duty@lending.example " +
		"--kinds held,failing --lag 1h --quiet 22:00-06:30 --zone Europe/Vienna --secret-stdin",
	"channels change": "noemata channels change desk --kinds held,failing,unequal",
	"channels test":   "noemata channels test desk",
	"channels remove": "noemata channels remove desk",
	"users list":      "noemata users list",
	"users add":       "noemata users add maren --role operate --label region=north",
	"users change": "noemata users change maren --role administer\nprintf %s \"$NEW\" | noemata users change maren " +
		"--role operate --password-stdin",
	"users remove": "noemata users remove maren",
	"overview":     "noemata overview\nnoemata overview --label region=north",
	"log": "noemata log circulation-live\nnoemata log circulation-live --level warning --table public.loans\n" +
		"noemata log circulation-live --follow",
	"volumes":          "noemata volumes circulation-live --days 7",
	"burden":           "noemata burden circulation --days 7",
	"retention list":   "noemata retention list",
	"retention set":    "noemata retention set runs 30d",
	"processes list":   "noemata processes list",
	"processes drain":  "noemata processes drain kq3v7m2xya",
	"processes resume": "noemata processes resume kq3v7m2xya",
	"sessions list":    "noemata sessions list",
	"sessions end":     "noemata sessions end 3",
	"changes": "noemata changes --about 'feed circulation-lake'\nnoemata changes --by 'first administrator' " +
		"--limit 200",
	"repair":      "noemata repair circulation-lake public.loans\nnoemata repair circulation-lake --yes",
	"proofs list": "noemata proofs list circulation-lake\nnoemata proofs list circulation-lake public.loans",
	"proofs show": "noemata proofs show 12",
	"proofs stop": "noemata proofs stop 12",
	"backfill": "noemata backfill circulation-lake public.patrons --from 2026-01-01 --slice 1mo " +
		"--newest-first --wait",

	"tokens list":   "noemata tokens list",
	"tokens add":    "noemata tokens add 'nightly report'",
	"tokens remove": "noemata tokens remove 3",
	"keys list":     "noemata keys list",
	"keys export":   "noemata keys export people > people.key",
	"keys import":   "noemata keys import people < people.key",

	"sources list": "noemata sources list\nnoemata sources list -o json",
	"sources show": "noemata sources show circulation",
	"sources add": "noemata sources add circulation --host db.example --database circulation --user reader " +
		"--password-stdin < " +
		"password\nnoemata sources add catalogue --url mariadb://reader@db.example/catalogue",
	"sources change": "noemata sources change circulation --host standby.example",
	"sources try": "noemata sources try --host db.example --database circulation --user reader --password-stdin < " +
		"password",
	"sources test":    "noemata sources test circulation",
	"sources remove":  "noemata sources remove circulation",
	"sources tables":  "noemata sources tables circulation\nnoemata sources tables circulation public.loans",
	"warehouses list": "noemata warehouses list",
	"warehouses show": "noemata warehouses show lake",
	"warehouses add": "noemata warehouses add lake --path lake.duckdb\nnoemata warehouses add archive --kind iceberg --path archive " +
		"--mark-daily 23:59 --mark-keep 90d",
	"warehouses change": "noemata warehouses change reports --user loader --password-stdin < password",
	"warehouses try":    "noemata warehouses try --path lake.duckdb",
	"warehouses test":   "noemata warehouses test lake",
	"warehouses remove": "noemata warehouses remove lake",

	"feeds list": "noemata feeds list",
	"feeds show": "noemata feeds show circulation-lake",
	"feeds propose": "noemata feeds propose circulation lake --tables 'public.*' > circulation-lake.yaml\n" +
		"noemata feeds check circulation-lake.yaml",
	"feeds check":   "noemata feeds check circulation-lake.yaml",
	"feeds diff":    "noemata feeds export circulation-lake | sed 's/5s/30s/' | noemata feeds diff -",
	"feeds apply":   "noemata feeds apply circulation-lake.yaml --start",
	"feeds preview": "noemata feeds preview circulation-lake.yaml public.patrons --rows 5",
	"feeds export": "noemata feeds export circulation-lake > circulation-lake.yaml\nnoemata feeds export " +
		"circulation-lake --revision 2",
	"feeds schema":     "noemata feeds schema > feed-file.schema.json",
	"feeds revisions":  "noemata feeds revisions circulation-lake",
	"feeds privileges": "noemata feeds privileges circulation.yaml --analysts readers",
	"feeds move":       "noemata feeds move circulation-lake reports",
	"feeds duplicate":  "noemata feeds duplicate circulation-lake circulation-copy --warehouse reports",
	"feeds mend": "noemata feeds mend circulation.yaml\nnoemata feeds mend circulation.yaml --source-user owner --yes\n" +
		"noemata feeds mend circulation.yaml --wait 10m",
	"feeds revert": "noemata feeds revert circulation-lake --dry-run\nnoemata feeds revert circulation-lake 2",
	"feeds drifts": "noemata feeds drifts circulation-lake",
	"feeds start":  "noemata feeds start circulation-lake",
	"feeds pause":  "noemata feeds pause circulation-lake\nnoemata feeds pause circulation-lake --table public.loans",
	"feeds copy":   "noemata feeds copy circulation-live --table public.loans",
	"feeds remove": "noemata feeds remove circulation-lake",

	"runs list":      "noemata runs list --feed circulation-lake",
	"runs show":      "noemata runs show 17 --statements",
	"runs start":     "noemata runs start circulation-lake",
	"runs stop":      "noemata runs stop 17",
	"positions list": "noemata positions list circulation-lake",
	"positions set": "noemata positions set circulation-lake public.loans 2026-11-01T00:00:00Z\nnoemata positions set " +
		"circulation-lake public.loans --back 2h --dry-run\n" +
		"noemata positions set circulation-live public.loans end --dry-run",
	"positions clear":  "noemata positions clear circulation-lake public.loans",
	"backfills list":   "noemata backfills list circulation-lake",
	"backfills pause":  "noemata backfills pause 2",
	"backfills resume": "noemata backfills resume 2",
	"backfills stop":   "noemata backfills stop 2",
}

// exemplify gives each command its examples.
func exemplify(c *cobra.Command) {
	path := strings.TrimPrefix(c.CommandPath(), "noemata ")
	if lines := examples[path]; lines != "" {
		c.Example = "  " + strings.ReplaceAll(lines, "\n", "\n  ")
	}
	for _, child := range c.Commands() {
		exemplify(child)
	}
}
