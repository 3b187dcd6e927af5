#!/usr/bin/env bash
# Writes anew what of the documents is made from the code: docs/openapi.json (the console's types follow from it), the schema of a
# definition and its reference, and tables in docs/being-told.md and docs/security.md. No service runs for it. Compiled as for a test run,
# for the descriptions are those of the code's own documentation.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh build
. tools/parts.sh
trap compiler_ends EXIT
dotnet build "$here/tests/Front" -c Release -v quiet
CALM_WRITE_DOCS=1 tests/Front/bin/Release/net10.0/CalmSentry.FrontTests -noColor -class '*.WrittenDocumentsTests'
git diff --stat -- docs
