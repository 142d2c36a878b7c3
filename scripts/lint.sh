#!/usr/bin/env bash
# Formatting, vet and static checks, and the console's types, formatting, checks and unit tests.
set -euo pipefail
unformatted=$(gofmt -l $(git ls-files '*.go'))
[ -z "$unformatted" ] || { echo "not formatted: $unformatted" >&2; exit 1; }
go vet ./...
go tool staticcheck ./...
cd console
[ -d node_modules ] || npm ci --no-audit --no-fund
npm run --silent check
