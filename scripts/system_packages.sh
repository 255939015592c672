#!/bin/sh
# SPDX-License-Identifier: GPL-3.0-or-later
# System libraries for the window, for sound and for running without a screen (Debian, Ubuntu).
# With "test", also what the tests hold the program against: a sound server, and tools for video files.
set -eu
packages="python3-venv make xvfb libegl1 libgl1 libdbus-1-3 libfontconfig1 libglib2.0-0 libxcb-cursor0 \
libxcb-icccm4 libxcb-keysyms1 libxcb-shape0 libxkbcommon-x11-0 libportaudio2 libpulse0"
[ "${1:-}" = "test" ] && packages="$packages pulseaudio pulseaudio-utils libasound2-plugins ffmpeg \
appstream desktop-file-utils at-spi2-core dbus dbus-daemon"

if ! command -v dpkg-query >/dev/null 2>&1; then
    echo "This machine does not use Debian packages. Install the equivalents of: $packages" >&2
    exit 0
fi
missing=""
for package in $packages; do
    # newer releases carry a t64 name for the same library
    if ! dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' &&
        ! dpkg-query -W -f='${Status}' "${package}t64" 2>/dev/null | grep -q 'ok installed'; then
        missing="$missing $package"
    fi
done
[ -z "$missing" ] && exit 0
if [ "$(id -u)" -eq 0 ]; then
    echo "Installing system libraries:$missing"
    apt-get update -qq
    # shellcheck disable=SC2086
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
elif [ "${1:-}" = "test" ]; then
    echo "Some tests are left out until these are installed: sudo apt-get install -y$missing" >&2
else
    echo "System libraries are missing. Install them with this line, then run make again:" >&2
    echo "    sudo apt-get install -y$missing" >&2
    exit 1
fi
