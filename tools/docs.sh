#!/usr/bin/env bash
# Writes anew what of the documents is made from the code: docs/openapi.json (the console's types follow from it), the schema of a
# definition and its reference, and tables in docs/being-told.md and docs/security.md. No service runs for it.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
CALM_WRITE_DOCS=1 tools/try.sh front -class '*.WrittenDocumentsTests'
git diff --stat -- docs
