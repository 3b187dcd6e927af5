#!/usr/bin/env bash
# Writes docs/openapi.json anew from the service as it is built now, and from that the table of topics in docs/being-told.md.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
root=$(mktemp -d)
${CALM_OUT:-out}/calm-sentry serve --root "$root" --port 0 >/dev/null &
trap 'kill $!; wait $! || true; rm -rf "$root"' EXIT
until curl -s --unix-socket "$root/run/calm-sentry/api.sock" http://sentry/api/openapi.json -o docs/openapi.json; do kill -0 $!; sleep 0.1; done
node - <<'JS'
const { readFileSync, writeFileSync } = require("node:fs");
const words = JSON.parse(readFileSync("docs/openapi.json", "utf8")).components.schemas.Topic["x-words"];
const rows = Object.entries(words).map(([word, { means, urgency }]) => `| \`${word}\` | ${means} | ${urgency.replace("-", " ")} |`);
const urgentFirst = [...rows.filter((row) => row.endsWith("urgent |")), ...rows.filter((row) => !row.endsWith("urgent |"))];
const told = readFileSync("docs/being-told.md", "utf8");
writeFileSync("docs/being-told.md", told.replace(/(\| topic \|.*\n\|---.*\n)(\|.*\n)+/, (_, head) => head + urgentFirst.join("\n") + "\n"));
JS
