#!/bin/sh
# SPDX-License-Identifier: GPL-3.0-or-later
# The packages that people install: built twice to the same bytes, installed outside this folder with pip and with
# pipx, and used there; and the source package, unpacked, runs tests of its own.
set -eu
cd "$(dirname "$0")/.."
root=$(pwd)
python=$root/.venv/bin/python
out=$root/build/package
rm -rf "$out"
mkdir -p "$out"
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct 2>/dev/null || echo 1767225600)
export SOURCE_DATE_EPOCH PIP_DISABLE_PIP_VERSION_CHECK=1
for turn in one two; do
    rm -rf src/*.egg-info build/lib build/bdist*
    "$python" -m build --outdir "$out/$turn" . >"$out/$turn.log" 2>&1 || { tail -20 "$out/$turn.log" >&2; exit 1; }
done
"$python" -m pip install -qq --editable . --no-deps # the editable installation lost its notes above
wheel=$(ls "$out"/one/*.whl)
cmp "$wheel" "$out/two/$(basename "$wheel")"
echo "same input, same wheel: $(sha256sum "$wheel" | cut -c1-16)"

place=$(mktemp -d)
trap 'rm -rf "$place"' EXIT
export PULIZIA_HOME="$place/home" XDG_RUNTIME_DIR="$place"
"$python" -m venv "$place/venv"
"$place/venv/bin/pip" install -qq "$wheel"
PIPX_HOME="$place/pipx" PIPX_BIN_DIR="$place/bin" PIPX_MAN_DIR="$place/man" "$python" -m pipx install --quiet "$wheel" >/dev/null 2>&1

use() { # the whole job, outside the tree
    cd "$place"
    rm -rf take.wav job && mkdir job
    "$1" --version
    demo=$("$2" -c "from pulizia import api; print(api.demo_files()[1])")
    "$1" measure "$demo" >job/measured.txt
    "$1" inspect "$demo" >job/found.txt
    "$1" repair "$demo" --treat -o job/repaired.wav >/dev/null
    "$1" deliver job/repaired.wav --target ebu-r128 -o job/delivered.wav >job/delivered.txt
    grep -q "Verified from the written file" job/delivered.txt
    QT_QPA_PLATFORM=offscreen "$1" --demo --simulated-output --picture job/window.png
    "$2" -c "import sys; sys.exit(open('job/window.png', 'rb').read(4) != b'\x89PNG')"
    HOME="$place" XDG_DATA_HOME="$place/share" "$1" install-desktop >/dev/null
    HOME="$place" XDG_DATA_HOME="$place/share" "$1" uninstall-desktop >/dev/null
    cd "$root"
}
use "$place/venv/bin/pulizia" "$place/venv/bin/python"
use "$place/bin/pulizia" "$place/pipx/venvs/pulizia/bin/python"
echo "installed with pip and with pipx: measured, inspected, repaired, delivered, shown"

mkdir "$place/source"
tar xzf "$out"/one/*.tar.gz -C "$place/source" --strip-components=1
cd "$place/source"
PYTHONPATH="$place/source/src:$place/source" "$python" -m pytest -q -p no:cacheprovider tests/audio tests/settings tests/cli/test_measuring.py
