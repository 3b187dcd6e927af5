#!/bin/sh
# make-root.sh DIRECTORY: a minimal Debian with its own init, as this host's Debian is; made once.
set -e
[ -e "$1/sbin/init" ] && exit 0
. /etc/os-release
mkdir -p "$(dirname "$1")"
rm -rf "$1" "$1.part"
# From Debian's own archive; else from wherever this host has its packages from.
mmdebstrap --quiet --variant=minbase --include=init,perl-base "$VERSION_CODENAME" "$1.part" ||
  cat /etc/apt/sources.list /etc/apt/sources.list.d/*.list /etc/apt/sources.list.d/*.sources 2>/dev/null |
  mmdebstrap --quiet --variant=minbase --include=init,perl-base "$VERSION_CODENAME" "$1.part" -
rm -rf "$1.part/dev" "$1.part/var/cache/apt" && mkdir "$1.part/dev"
mv "$1.part" "$1"
