#!/usr/bin/env bash
# Runs the service and the console with reload on change, under a root of its own in .cache/dev. Ctrl-C ends both.
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
. tools/setup.sh
root=$PWD/.cache/dev
mkdir -p "$root"
[ -d src/console/node_modules ] || (cd src/console && npm ci --ignore-scripts --no-audit --no-fund)
# The keeper is native code and rarely changes; the service finds it beside itself.
dotnet publish src/Keeper -c Release -r "linux-$([ "$(uname -m)" = aarch64 ] && echo arm64 || echo x64)" -o out/.publish/Keeper -v quiet || exit 1
mkdir -p src/Server/bin/Debug/net10.0 && cp out/.publish/Keeper/calm-keeper src/Server/bin/Debug/net10.0/
trap 'trap - EXIT INT TERM; kill 0' EXIT INT TERM
dotnet watch --project src/Server run -- serve --root "$root" --port 7374 &
(cd src/console && npm run --silent types && CALM_CONSOLE=http://127.0.0.1:7374 npx vite --host 127.0.0.1 --port 7375) &
until [ -s "$root/run/calm-sentry/port" ]; do sleep 0.5; done
cat <<END

  the console, reloading     http://127.0.0.1:7375/   
  its sign-in, once          CALM_ROOT=$root dotnet run --project src/Cli -- open
                             (the session it opens holds for every port of this host)
  the client                 CALM_ROOT=$root dotnet run --project src/Cli -- list

END
wait
