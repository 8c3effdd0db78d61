#!/usr/bin/env bash
# Formats, lints, type-checks and tests; the last line is "N passed, N failed[, N skipped]".
set -u
cd "$(dirname "$0")/.."
if ! command -v chromium >/dev/null; then
  sudo=""
  [ "$(id -u)" -eq 0 ] || sudo="sudo"
  $sudo apt-get update -qq && $sudo apt-get install -y -qq --no-install-recommends chromium >/dev/null
fi
# What a real site needs; where it can't be had its tests are skipped, and say so.
if ! command -v php >/dev/null || ! command -v mariadbd >/dev/null; then
  sudo=""
  [ "$(id -u)" -eq 0 ] || sudo="sudo"
  { $sudo apt-get update -qq && $sudo apt-get install -y -qq --no-install-recommends \
    php-cli php-mysql php-zip php-curl php-xml php-mbstring php-gd mariadb-server-core mariadb-client-core; } \
    >/dev/null 2>&1 || true
fi
exec .venv/bin/python -W error -W "ignore::DeprecationWarning:schemathesis" -m tests.run "$@"
