#!/bin/sh
# SPDX-License-Identifier: GPL-3.0-or-later
# A Debian package of the program with the Python packages that it needs: build/deb/pulizia_VERSION_ARCH.deb.
# For the Debian or Ubuntu release, and its Python, of the machine that builds it. PYTHON names that Python.
#   make_deb.sh            build it
#   make_deb.sh try SUITE  build it, then install, run and remove it in a clean root (as root, with debootstrap)
set -eu
cd "$(dirname "$0")/.."
python=${PYTHON:-/usr/bin/python3}
version=$(sed -n 's/^__version__ = "\(.*\)"/\1/p' src/pulizia/__init__.py)
arch=$(dpkg --print-architecture)
minor=$("$python" -c 'import sys; print("%d.%d" % sys.version_info[:2])')
next=$("$python" -c 'import sys; print("%d.%d" % (sys.version_info[0], sys.version_info[1] + 1))')
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct 2>/dev/null || echo 1767225600)
export SOURCE_DATE_EPOCH
out=build/deb
root=$out/root
rm -rf "$out"
mkdir -p "$root/DEBIAN" "$root/usr/lib/pulizia" "$root/usr/bin" "$root/usr/share/doc/pulizia" "$root/usr/share/man/man1" \
    "$root/usr/share/applications" "$root/usr/share/mime/packages" "$root/usr/share/metainfo" \
    "$root/usr/share/icons/hicolor/scalable/apps"

.venv/bin/python -m build --wheel --outdir "$out" . >"$out/build.log" 2>&1
.venv/bin/python -m pip install -qq --target "$root/usr/lib/pulizia" --python-version "$minor" --only-binary=:all: \
    --implementation cp "$out"/pulizia-*.whl
rm -rf "$root/usr/lib/pulizia/bin" "$root/usr/lib/pulizia/share" "$root/usr/lib/pulizia/PySide6/scripts"
find "$root/usr/lib/pulizia/scipy" "$root/usr/lib/pulizia/numpy" "$root/usr/lib/pulizia/pulsectl" -name tests -type d -prune -exec rm -rf {} +
find "$root/usr/lib/pulizia" -name '*.so*' -type f -exec chmod 644 {} +
find "$root" -name __pycache__ -type d -prune -exec rm -rf {} +

cat >"$root/usr/bin/pulizia" <<EOF
#!/usr/bin/python3
import sys

sys.path.insert(0, "/usr/lib/pulizia")
sys.dont_write_bytecode = True
from pulizia.cli.main import run

run()
EOF
chmod 755 "$root/usr/bin/pulizia"
id=org.pulizia.Pulizia
for name in "$id.desktop:applications/$id.desktop" "$id-mime.xml:mime/packages/$id.xml" \
    "$id.metainfo.xml:metainfo/$id.metainfo.xml" "$id.svg:icons/hicolor/scalable/apps/$id.svg"; do
    sed 's/@EXEC@/pulizia/' "src/pulizia/data/desktop/${name%%:*}" >"$root/usr/share/${name##*:}"
done
.venv/bin/python scripts/man_page.py | gzip -9n >"$root/usr/share/man/man1/pulizia.1.gz"
{
    echo "pulizia ($version) unstable; urgency=medium"
    echo
    echo "  * See /usr/share/doc/pulizia/CHANGES.gz."
    echo
    echo " -- Pulizia <maintainers@pulizia.example>  $(date -u -R -d "@$SOURCE_DATE_EPOCH")"
} | gzip -9n >"$root/usr/share/doc/pulizia/changelog.gz"
gzip -9nc CHANGELOG.md >"$root/usr/share/doc/pulizia/CHANGES.gz"
{
    echo "Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/"
    echo "Upstream-Name: Pulizia"
    echo
    echo "Files: *"
    echo "Copyright: 2026 the Pulizia authors"
    echo "License: GPL-3+"
    echo " On Debian systems the text of the licence is in /usr/share/common-licenses/GPL-3."
    echo " The Python packages in /usr/lib/pulizia carry their own licences beside them (*.dist-info)."
} >"$root/usr/share/doc/pulizia/copyright"

# what Debian's own build would do otherwise: these files stay as their makers built and tested them
mkdir -p "$root/usr/share/lintian/overrides"
for tag in unstripped-binary-or-object embedded-library shared-library-lacks-prerequisites library-not-linked-against-libc \
    custom-library-search-path; do
    echo "pulizia: $tag"
done >"$root/usr/share/lintian/overrides/pulizia"

libraries="libc6, libgcc-s1, libstdc++6, libegl1, libgl1, libdbus-1-3, libfontconfig1, libglib2.0-0 | libglib2.0-0t64, libxcb-cursor0, libxcb-icccm4, \
libxcb-keysyms1, libxcb-shape0, libxkbcommon-x11-0, libportaudio2, libpulse0"
cat >"$root/DEBIAN/control" <<EOF
Package: pulizia
Version: $version
Architecture: $arch
Maintainer: Pulizia <maintainers@pulizia.example>
Installed-Size: $(du -sk "$root" | cut -f1)
Depends: python3 (>= $minor), python3 (<< $next), $libraries
Section: sound
Priority: optional
Description: repair, measure and deliver voice recordings
 Dialogue repair on the desktop and the command line: noise, hum, clicks,
 plosives, sibilance, reverberation and clipping are treated by steps that stay
 adjustable; recordings are assembled into programmes, measured, and delivered
 to broadcast and online loudness targets.
EOF
find "$root" -exec touch -h -d "@$SOURCE_DATE_EPOCH" {} +
deb=$out/pulizia_${version}_$arch.deb
dpkg-deb --root-owner-group -Zxz --build "$root" "$deb" >/dev/null
echo "$deb, $(($(stat -c %s "$deb") / 1000000)) MB"
[ "${1:-}" = try ] || exit 0

suite=${2:-bookworm}
clean=$(mktemp -d)
trap 'umount "$clean/proc" 2>/dev/null || true; rm -rf "$clean"' EXIT
debootstrap --variant=minbase "$suite" "$clean" ${MIRROR:-} >"$out/debootstrap.log" 2>&1 ||
    { tail -5 "$out/debootstrap.log" >&2; exit 1; }
cp /etc/apt/apt.conf.d/* "$clean/etc/apt/apt.conf.d/" 2>/dev/null || true
cp /etc/resolv.conf /etc/hosts "$clean/etc/"
mount -t proc proc "$clean/proc"
cp "$deb" "$clean/pulizia.deb"
chroot "$clean" sh -eu -c '
    export DEBIAN_FRONTEND=noninteractive LC_ALL=C.UTF-8
    apt-get update -qq && apt-get install -y -qq --no-install-recommends /pulizia.deb >/dev/null
    pulizia --version
    demo=$(ls /usr/lib/pulizia/pulizia/data/demo/*.flac | head -1)
    pulizia measure "$demo"
    pulizia deliver "$demo" --recipe hard-s --target ebu-r128 -o /tmp/a.wav | tail -1
    QT_QPA_PLATFORM=offscreen pulizia --demo --simulated-output --picture /tmp/window.png
    test -s /tmp/window.png
    apt-get remove -y -qq pulizia >/dev/null
    for left in /usr/lib/pulizia /usr/bin/pulizia /usr/share/applications/*pulizia*; do test ! -e "$left"; done
    echo "installed, run and removed in a clean root"'
