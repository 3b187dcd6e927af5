#!/usr/bin/env bash
# Builds everything into out/: calm, calm-sentry, calm-keeper and the console's files. What has not changed is not built again.
#   ./build.sh                     all of it
#   READY_TO_RUN=1 ./build.sh      the service needing the .NET runtime instead of native code (quick to publish, slower to start)
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
. tools/setup.sh
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1
mkdir -p out/.stamps

case "$(uname -m)" in
  x86_64) rid=linux-x64 ;;
  aarch64) rid=linux-arm64 ;;
  *) echo "build: $(uname -m) is not supported; x86_64 and aarch64 are" >&2; exit 1 ;;
esac

# A part is built again when the content of any file it is made of has changed.
stamp_of() { { echo "$rid ${READY_TO_RUN:-}"; cat Directory.*.props global.json; find "$@" -type f -not -path '*/bin/*' -not -path '*/obj/*' -not -path '*/node_modules/*' -not -path '*/dist/*' -not -path '*/test-results/*' -not -path '*/console/tests/*' -not -name schema.d.ts -print0 | sort -z | xargs -0 sha256sum; } | sha256sum | cut -d' ' -f1; }
changed() { # name, file that must be there, sources…
  local name=$1 made=$2; shift 2
  stamp=$(stamp_of "$@")
  [ ! -e "$made" ] || [ "$(cat "out/.stamps/$name" 2>/dev/null)" != "$stamp" ]
}

publish() { # project, binary, sources…
  local project=$1 binary=$2; shift 2
  if changed "$project" "out/$binary" "$@"; then
    echo "build: $binary (native code; the first time takes a minute or two)"
    local mode=()
    [ -n "${READY_TO_RUN:-}" ] && [ "$project" != Keeper ] && mode=(-p:PublishAot=false -p:PublishReadyToRun=true --self-contained false)
    dotnet publish "src/$project" -c Release -r "$rid" -o "out/.publish/$project" -v quiet "${mode[@]}"
    find "out/.publish/$project" -maxdepth 1 -type f \( -name "$binary" -o -name '*.so' -o -name '*.dll' -o -name '*.runtimeconfig.json' -o -name '*.deps.json' \) -exec cp --remove-destination {} out/ \;
    echo "$stamp" >"out/.stamps/$project"
  fi
}

publish Keeper calm-keeper src/Keeper src/Linux src/Contract
publish Cli calm src/Cli src/Contract
publish Server calm-sentry src/Server src/Store src/Linux src/Contract src/Core
if changed console out/console/index.html src/console; then
  echo "build: the console"
  (cd src/console && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error && npm run --silent build)
  rm -rf out/console && cp -r src/console/dist out/console
  echo "$stamp" >out/.stamps/console
fi
echo "build: out/calm, out/calm-sentry and out/calm-keeper are ready"
