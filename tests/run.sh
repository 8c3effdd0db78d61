#!/usr/bin/env bash
# Formats, lints, type-checks and tests; the last line is "N passed, N failed[, N skipped]".
set -u
cd "$(dirname "$0")/.."
if ! command -v chromium >/dev/null; then
  sudo=""
  [ "$(id -u)" -eq 0 ] || sudo="sudo"
  $sudo apt-get update -qq && $sudo apt-get install -y -qq --no-install-recommends chromium >/dev/null
fi
exec .venv/bin/python -W error -W "ignore::DeprecationWarning:schemathesis" -m tests.run "$@"
