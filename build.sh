#!/usr/bin/env bash
# Builds everything into out/: calm, calm-sentry, calm-keeper (native code) and the console's files. What has not changed is not built again.
#   ./build.sh                     all of it
#   READY_TO_RUN=1 ./build.sh      the service needing the .NET runtime instead of native code (quick to publish, slower to start)
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
. tools/setup.sh build
. tools/parts.sh
build native console types
echo "build: out/calm, out/calm-sentry and out/calm-keeper are ready"
