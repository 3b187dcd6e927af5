# Installs what the scripts need on this machine and is missing. Sourced, with the parts that are to run (build is always one):
#   . tools/setup.sh demo
# Debian's packages, named in tools/packages, come through apt-get (as root). What is there is known by the package database: another
# package may bring the same command, and a library or a module has none. All else comes through NuGet and npm.
needed=$(for part in build "$@"; do
  awk -v part="$part" '!/^#/ { for (i = 2; i <= NF; i++) if ($i == part) print $1 }' tools/packages
done | sort -u)
if ! command -v dpkg-query >/dev/null; then
  # shellcheck disable=SC2086
  echo "setup: there is no Debian package database here to ask; these packages, or their like, are needed:" $needed >&2
  missing=
else
  # shellcheck disable=SC2086
  missing=$(comm -23 <(printf '%s\n' $needed) \
    <(dpkg-query -W -f '${db:Status-Status} ${Package}\n' $needed 2>/dev/null | sed -n 's/^installed //p' | sort -u))
fi
if [ -n "$missing" ]; then
  # shellcheck disable=SC2086
  missing=$(echo $missing)
  if [ "$(id -u)" != 0 ]; then echo "setup: run as root, or install these first: $missing" >&2; exit 1; fi
  echo "setup: installing $missing"
  export DEBIAN_FRONTEND=noninteractive
  # shellcheck disable=SC2086
  apt-get update -qq && apt-get install -y -qq --no-install-recommends $missing >/dev/null ||
    { echo "setup: apt-get did not install all of: $missing" >&2; exit 1; }
fi
for tool in dotnet node npm; do
  command -v "$tool" >/dev/null || { echo "setup: $tool is needed (the .NET 10 SDK, Node.js 20 with npm)" >&2; exit 1; }
done
unset needed missing
