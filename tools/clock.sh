#!/usr/bin/env bash
# clock.sh: moments in every zone of this host's time database, in both of its forms (RFC 9636: with every change written out, and with a
# rule for those to come), 2026 to 2060, against the C library and against somebody who watches such a clock minute by minute.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh
. tools/parts.sh
dotnet build "$here/tests/Core/CoreTests.csproj" -c Release -v quiet
compiler_ends
database=${TZDIR:-/usr/share/zoneinfo}
forms=$(mktemp -d)
trap 'rm -rf "$forms"' EXIT
for form in fat slim; do
  zic -b $form -d "$forms/$form" "$database/tzdata.zi"
  cp "$database"/*.tab "$forms/$form" # by which the framework knows which zones there are
  echo "clock: $form"
  TZDIR=$forms/$form CALM_CLOCK_YEARS=${1:-2026-2060} \
    tests/Core/bin/Release/net10.0/CalmSentry.CoreTests -noColor -class '*ZoneTests' | grep -aE 'FAIL|Total:'
done
