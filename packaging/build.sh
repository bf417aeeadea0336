#!/bin/sh
# Builds the Debian package of the agent: build.sh VERSION PROGRAM FILE.deb
set -eu
version=$1 program=$(realpath "$2") file=$(realpath "$3")
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
architecture=$(dpkg --print-architecture)
mkdir -p "$work/DEBIAN" "$work/usr/bin" "$work/lib/systemd/system"
install -m 755 "$program" "$work/usr/bin/zridge-agent"
cp packaging/zridge-agent.service "$work/lib/systemd/system/"
sed "s/@VERSION@/$version/; s/@ARCHITECTURE@/$architecture/" packaging/control > "$work/DEBIAN/control"
cp packaging/postinst packaging/prerm packaging/postrm "$work/DEBIAN/"
chmod 755 "$work" "$work/DEBIAN"
dpkg-deb -Zgzip --build --root-owner-group "$work" "$file" >/dev/null
