#!/usr/bin/env bash
# Runs the service and the console with reload on change, under a root of its own in .cache/dev. Ctrl-C ends both.
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
. tools/setup.sh build
. tools/parts.sh
build quick console types || exit 1
root=$PWD/.cache/dev
mkdir -p "$root"
# Compiled as the quick parts are, into the same directory: the keeper, native code that rarely changes, lies beside it.
export CalmQuick=true
cp --remove-destination out/quick/calm-keeper .cache/quick/bin/Server/release_$rid/
# Each in a process group of its own, so that nothing of it stays behind: the watcher does not end by being asked alone.
set -m
dotnet watch --non-interactive --no-hot-reload --project "$here/src/Server" run -c Release --no-restore -- serve --root "$root" --port 7374 </dev/null &
groups="-$!"
(cd src/console && CALM_CONSOLE=http://127.0.0.1:7374 exec npx vite --host 127.0.0.1 --port 7375) </dev/null &
groups="$groups -$!"
set +m
leave() {
  trap - EXIT INT TERM
  local tries group
  for group in $groups; do kill -TERM -- "$group" 2>/dev/null; done
  for tries in 1 2 3 4 5 6 7 8 9 10; do
    for group in $groups; do kill -0 -- "$group" 2>/dev/null && break; done || break
    sleep 0.3
  done
  for group in $groups; do kill -KILL -- "$group" 2>/dev/null; done
  exit 0
}
trap leave EXIT INT TERM
until [ -s "$root/run/calm-sentry/port" ]; do sleep 0.2; done
cat <<END

  the console, reloading     http://127.0.0.1:7375/
  its sign-in, once          CALM_ROOT=$root out/quick/calm open | sed s/:7374/:7375/
                             (a session holds for the address it was opened at, and no other)
  the client                 CALM_ROOT=$root out/quick/calm list

END
wait
