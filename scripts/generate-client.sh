#!/usr/bin/env bash
# Writes the OpenAPI document and the client's types anew; with --check says whether they are stale.
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
. "$here/scripts/setup.sh"
ensure_node_modules
out="$here/web/openapi.json"; types="$here/web/src/api/schema.ts"
[ "${1:-}" = --check ] && { out=$(mktemp --suffix .json); types=$(mktemp --suffix .ts); }
cd "$here"
"$here/.venv/bin/python" -c '
import json, sys
from fair_ladle.main import create_app
json.dump(create_app().openapi(), open(sys.argv[1], "w"), indent=1, sort_keys=True)' "$out"
(cd "$here/web" && node node_modules/openapi-typescript/bin/cli.js "$out" -o "$types" >/dev/null 2>&1)
if [ "${1:-}" = --check ]; then
    cmp -s "$out" "$here/web/openapi.json" && cmp -s "$types" "$here/web/src/api/schema.ts" \
        || die "The client is stale; run scripts/generate-client.sh."
fi
