#!/usr/bin/env bash
# Writes docs/definition.schema.json anew from the service as it is built now, and docs/definition.md from that schema.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
root=$(mktemp -d)
${CALM_OUT:-out}/calm-sentry serve --root "$root" --port 0 >/dev/null &
trap 'kill $!; wait $! || true; rm -rf "$root"' EXIT
until curl -s --unix-socket "$root/run/calm-sentry/api.sock" http://sentry/api/definition.schema.json -o docs/definition.schema.json; do kill -0 $!; sleep 0.1; done
node - <<'JS'
const { readFileSync, writeFileSync } = require("node:fs");
const schema = JSON.parse(readFileSync("docs/definition.schema.json", "utf8"));
const takes = (key) =>
  key.enum ? key.enum.map((one) => `\`${one}\``).join(", ")
  : key.properties ? "keys with values"
  : key.type === "boolean" ? "\`true\`, \`false\`"
  : key.type === "object" ? "names with values"
  : key.type === "array" ? (key.items.anyOf ? "a list of maps" + (key.items.anyOf.length > 1 ? " or names" : "") : "a list of texts")
  : key.examples ? `text, such as \`${key.examples[0]}\`` : Array.isArray(key.type) && key.type[0] === "number" ? "a number" : "text";
const rows = (map, path) =>
  Object.entries(map.properties).flatMap(([name, key]) => {
    const left = key["x-left-out"];
    const about = key.description.replace(` Left out: ${left}.`, "");
    const inner = key.properties ? key : key.items?.anyOf?.[0];
    return [
      `| \`${path}${name}\` | ${about} | ${takes(key)} | ${left ?? "**needed**"} |`,
      ...(inner?.properties ? rows(inner, `${path}${name}${key.type === "array" ? "[]" : ""}.`) : []),
    ];
  });
writeFileSync("docs/definition.md", `# The definition

Every key there is. Made from the [JSON Schema](definition.schema.json) by \`tools/reference.sh\`; a definition file is YAML 1.2 with one
service. Lengths of time: \`500 ms\`, \`10 s\`, \`5 min\`, \`2 h\`, \`1 d\`. Amounts of memory: \`64 MiB\`, \`1.5 GiB\`, \`200 MB\`.

| key | means | takes | left out |
|---|---|---|---|
${rows(schema, "").join("\n")}
`);
JS
