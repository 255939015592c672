#!/bin/sh
# SPDX-License-Identifier: GPL-3.0-or-later
# Everything that must hold: formatting rules, types, who may import whom, tests. With CI=true also what takes long:
# the packages as people install them, and the tests that are marked slow.
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
chosen="and not slow"
if [ -n "${CI:-}" ]; then
	chosen=""
	echo "== packages"
	sh scripts/check_package.sh
fi
echo "== tests"
$bin/python -m pytest -n 2 --dist worksteal -m "not alone $chosen" "$@"
echo "== tests that need the machine for themselves"
# a build machine may take the processor away in the middle of a second of sound: such a test must pass once in three
exec $bin/python -m pytest -m "alone $chosen" --reruns 2 --reruns-delay 5 "$@"
