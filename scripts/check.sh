#!/bin/sh
# SPDX-License-Identifier: GPL-3.0-or-later
# Everything that must hold: formatting rules, types, who may import whom, tests.
set -eu
cd "$(dirname "$0")/.."
bin=.venv/bin
echo "== lint"
$bin/ruff check src tests benchmarks scripts docs
$bin/ruff format --check --quiet src tests benchmarks scripts docs
echo "== types"
$bin/mypy
echo "== import contracts"
$bin/lint-imports
echo "== packages"
sh scripts/check_package.sh
echo "== tests"
$bin/python -m pytest -n 2 --dist worksteal -m "not alone" "$@"
echo "== tests that need the machine for themselves"
# a build machine may take the processor away in the middle of a second of sound: such a test must pass once in three
exec $bin/python -m pytest -m alone --reruns 2 --reruns-delay 5 "$@"
