#!/bin/sh
# Makes a package for Debian: package.sh VERSION BINARY FOLDER
set -eu
version=$1 binary=$2 out=$3
here=$(cd "$(dirname "$0")" && pwd)
tree=$(mktemp -d)
trap 'rm -rf "$tree"' EXIT
chmod 755 "$tree"
install -D -m 755 "$binary" "$tree/usr/bin/noemata"
install -D -m 644 "$here/noemata.service" "$tree/lib/systemd/system/noemata.service"
install -D -m 640 "$here/noemata.default" "$tree/etc/default/noemata"
install -D -m 644 "$here/alert-rules.yml" "$tree/usr/share/doc/noemata/alert-rules.yml"
install -D -m 644 "$here/dashboard.json" "$tree/usr/share/doc/noemata/dashboard.json"
install -d -m 755 "$tree/usr/share/man/man1"
"$binary" man "$tree/usr/share/man/man1" >/dev/null
gzip -9n "$tree"/usr/share/man/man1/*.1
install -d -m 755 "$tree/DEBIAN"
cat >"$tree/DEBIAN/control" <<EOF
Package: noemata
Version: $version
Architecture: $(dpkg --print-architecture)
Maintainer: The Noemata team <noemata@lending.example>
Section: database
Priority: optional
Depends: libc6, libgcc-s1, libstdc++6, adduser
Recommends: postgresql
Installed-Size: $(du -sk "$tree" | cut -f1)
Description: keeps tables of databases replicated into warehouses
 Noemata finds what changed in tables of PostgreSQL, MariaDB and MySQL, by watermarks or
 by their change logs, merges it into DuckDB files or PostgreSQL, and can prove that both
 sides are equal.
EOF
echo /etc/default/noemata >"$tree/DEBIAN/conffiles"
cat >"$tree/DEBIAN/postinst" <<'EOF'
#!/bin/sh
set -e
if [ "$1" = configure ]; then
	adduser --system --group --home /var/lib/noemata --no-create-home --quiet noemata
	chgrp noemata /etc/default/noemata
	if [ -d /run/systemd/system ]; then
		systemctl daemon-reload
		systemctl enable --quiet noemata.service
		systemctl restart noemata.service
		echo "The first administrator's token, where this is the first start: journalctl -u noemata | grep token"
	fi
fi
EOF
cat >"$tree/DEBIAN/prerm" <<'EOF'
#!/bin/sh
set -e
if [ -d /run/systemd/system ] && [ "$1" = remove ]; then
	systemctl disable --quiet --now noemata.service
fi
EOF
cat >"$tree/DEBIAN/postrm" <<'EOF'
#!/bin/sh
set -e
# Records, key and warehouse files stay, also where the package is purged: only a person removes data.
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
fi
EOF
chmod 755 "$tree/DEBIAN/postinst" "$tree/DEBIAN/prerm" "$tree/DEBIAN/postrm"
mkdir -p "$out"
dpkg-deb --root-owner-group --build "$tree" "$out/noemata_${version}_$(dpkg --print-architecture).deb"
