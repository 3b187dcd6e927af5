#!/usr/bin/env bash
# README's two commands, one after the other, on a fresh machine: a root made by mmdebstrap(1) that has the .NET SDK, Node.js with npm
# and git, and nothing else, so that the scripts have to install what they need. About 35 minutes, as root; prints how long each took.
#   tools/fresh.sh              ./demo.sh --once, then ./test.sh, from a folder whose name has a space and a quote
#   tools/fresh.sh COMMAND…     something else there
# Kernel, network and where packages come from are this host's.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh fresh
[ $# -gt 0 ] || set -- bash -c '
  begun=$SECONDS; ./demo.sh --once || { echo "fresh: the demo failed"; exit 1; }
  demo=$((SECONDS - begun)) begun=$SECONDS; ./test.sh || { echo "fresh: the tests failed"; exit 1; }
  echo "fresh: the demo took $demo s, the tests $((SECONDS - begun)) s"'

root=$(mktemp -d "${FRESH_PLACE:-/var/tmp}/fresh.XXXXXX")
leave() { rm -rf --one-file-system "$root"; }
trap leave EXIT
chmod 755 "$root"
. /etc/os-release
echo "fresh: a minimal $PRETTY_NAME is being made in $root"
# libicu and libssl are what the SDK itself takes from the host, certificates what it and npm need to fetch anything at all.
with=git,ca-certificates,libssl3,$(dpkg-query -W -f '${Package}\n' 'libicu[0-9]*' | head -n 1)
find /etc/apt -name sources.list -o -name '*.list' -o -name '*.sources' | xargs cat |
  mmdebstrap --quiet --variant=minbase --include="$with" "$VERSION_CODENAME" "$root" -
# Where packages are fetched, and by whose certificates, as this host has it.
for one in /etc/apt /etc/ssl /etc/resolv.conf /etc/hosts ~/.npmrc ~/.nuget/NuGet ~/.gitconfig; do
  [ -e "$one" ] || continue
  rm -rf "$root${one:?}"
  mkdir -p "$root$(dirname "$one")"
  cp -aL "$one" "$root$one"
done
node=$(readlink -f "$(command -v node)") npm=$(dirname "$(dirname "$(readlink -f "$(command -v npm)")")")
dotnet=$(dirname "$(readlink -f "$(command -v dotnet)")")
mkdir -p "$root$dotnet" "$root/usr/local/lib/node_modules"
cp -a "$dotnet/." "$root$dotnet/"
ln -s "$dotnet/dotnet" "$root/usr/local/bin/dotnet"
cp "$node" "$root/usr/local/bin/node"
cp -a "$npm" "$root/usr/local/lib/node_modules/npm"
for one in npm npx; do ln -s "../lib/node_modules/npm/bin/$one-cli.js" "$root/usr/local/bin/$one"; done
here="/srv/Skerry's quay"
mkdir -p "$root$here"
git ls-files -z --cached --others --exclude-standard | tar c --null --files-from=- --ignore-failed-read | tar x -C "$root$here"

# Mounts and processes of its own, which end with it.
unshare --mount --pid --fork --kill-child bash -c '
  set -e
  root=$1 here=$2
  shift 2
  mount --make-rprivate /
  mount --bind "$root" "$root" # its root is one of a file system, as a machine has it
  cd "$root"
  mount -t proc proc "$root/proc"
  mount --rbind /sys "$root/sys"
  mount --rbind /dev "$root/dev"
  mount -t tmpfs -o mode=1777 tmpfs "$root/tmp"
  mount -t tmpfs -o mode=755 tmpfs "$root/run"
  exec chroot "$root" env HOME=/root PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin bash -c "cd \"\$1\" && shift && exec \"\$@\"" bash "$here" "$@"
' fresh "$root" "$here" "$@"
