# What the scripts need on this machine, installed when it is missing. Sourced; sets nothing but PATH.
# Debian's packages come through apt-get (as root), the .NET SDK must be there (https://dot.net), all else through NuGet and npm.
need() { # command, package
  command -v "$1" >/dev/null && return
  missing="${missing:-} $2"
}
missing=
need gcc gcc
need curl curl
[ -e /usr/include/zlib.h ] || missing="$missing zlib1g-dev"
for extra in ${CALM_NEEDS:-}; do need "${extra%%=*}" "${extra##*=}"; done
if [ -n "$missing" ]; then
  echo "setup: installing$missing"
  if [ "$(id -u)" != 0 ]; then echo "setup: run as root, or install these first:$missing" >&2; exit 1; fi
  export DEBIAN_FRONTEND=noninteractive
  apt-get update -qq
  # shellcheck disable=SC2086
  apt-get install -y -qq --no-install-recommends $missing >/dev/null
fi
for tool in dotnet node npm; do
  command -v "$tool" >/dev/null || { echo "setup: $tool is needed (the .NET 10 SDK, Node.js 20 with npm)" >&2; exit 1; }
done
