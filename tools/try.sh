#!/usr/bin/env bash
# One room's tests, on what has changed since the last time: compiled quickly, without analyzers, and run in this terminal.
#   tools/try.sh core                        all of the core's
#   tools/try.sh engine -class '*PumpTests'  what its runner takes (-? lists it)
# Rooms: core engine front, and end-to-end, which runs on out/quick.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
room=${1:-}
case $room in
  core | engine | front) name=${room^} project=${room^}Tests ;;
  end-to-end) name=EndToEnd project=EndToEnd ;;
  *) echo "try: the room of the tests is needed: core engine front end-to-end" >&2; exit 2 ;;
esac
shift
. tools/setup.sh
. tools/parts.sh
# A compiler that stays for the next time, ten minutes at most.
export SharedCompilationId=calm-sentry-try
COMPILER_STAYS=1
if [ "$room" = end-to-end ]; then
  build quick
  export CALM_TEST_OUT=out/quick
fi
# What restoring looks at has not changed for the most part; and on few cores more builders cost more than they save.
restore=
assets=.cache/quick/obj/$project/project.assets.json
[ -e "$assets" ] && [ -z "$(find . -maxdepth 3 \( -name '*.csproj' -o -name 'Directory.*' \) -newer "$assets")" ] && restore=--no-restore
CalmQuick=true dotnet build "$here/tests/$name/$project.csproj" -c Release -v quiet -clp:NoSummary -m:1 $restore
exec ".cache/quick/bin/$project/release/CalmSentry.$project" -noColor "$@"
