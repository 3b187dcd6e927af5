#!/usr/bin/env bash
# Writes docs/openapi.json anew from the service as it is built now.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
root=$(mktemp -d)
${CALM_OUT:-out}/calm-sentry serve --root "$root" --port 0 >/dev/null &
trap 'kill $!; wait $! || true; rm -rf "$root"' EXIT
until curl -s --unix-socket "$root/run/calm-sentry/api.sock" http://sentry/api/openapi.json -o docs/openapi.json; do kill -0 $!; sleep 0.1; done
