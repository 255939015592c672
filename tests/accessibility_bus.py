# SPDX-License-Identifier: GPL-3.0-or-later
"""A private session with an accessibility bus, the window in it, and what a screen reader would be told of it.

Run by itself inside ``dbus-run-session`` with a display: it writes one JSON row for each accessible object.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
from pathlib import Path

LAUNCHERS = ("/usr/libexec/at-spi-bus-launcher", "/usr/lib/at-spi2-core/at-spi-bus-launcher")
WINDOW = """
import sys
from PySide6.QtCore import QTimer
from pulizia.desktop.start import make_application, make_window
application = make_application()
window, poster = make_window(simulated=True)
window.files.asks = False
window.resize(1280, 800)
window.show()
window.files.open_demo()
def go_on():
    if window.session.chain is None or window.session.pool.busy:
        return
    timer.stop()
    window.session.repairs.add_tool("noise", on_selection=False)
    window.session.select(48_000, 96_000)
timer = QTimer()
timer.timeout.connect(go_on)
timer.start(200)
application.exec()
"""


def launcher() -> str | None:
    """The program that starts the accessibility bus, if it is installed."""
    return next((path for path in LAUNCHERS if Path(path).exists()), None)


def body_of(reply) -> tuple:
    """What a reply says; LookupError for an object that is gone, or a program that is still starting."""
    if reply.header.message_type.name != "method_return":
        raise LookupError(reply.body)
    return reply.body


def main() -> None:
    from jeepney import DBusAddress, new_method_call
    from jeepney.io.blocking import open_dbus_connection

    started = [subprocess.Popen([str(launcher()), "--launch-immediately"])]
    try:
        session = open_dbus_connection("SESSION")
        bus = DBusAddress("/org/a11y/bus", "org.a11y.Bus", "org.a11y.Bus")
        end = time.monotonic() + 20
        while True:
            reply = session.send_and_get_reply(new_method_call(bus, "GetAddress"), timeout=10)
            if reply.header.message_type.name == "method_return":
                break
            assert time.monotonic() < end, "the accessibility bus did not start"
            time.sleep(0.1)
        environment = os.environ | {"QT_QPA_PLATFORM": "xcb", "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1"}
        started.append(subprocess.Popen([sys.executable, "-c", WINDOW], env=environment))
        reader = open_dbus_connection(reply.body[0])

        def call(dest: str, path: str, interface: str, method: str, signature: str | None = None, body: tuple = ()):
            message = new_method_call(DBusAddress(path, dest, interface), method, signature, body)
            return body_of(reader.send_and_get_reply(message, timeout=20))

        def tell(dest: str, path: str, name: str):
            of = ("org.a11y.atspi.Accessible", name)
            return call(dest, path, "org.freedesktop.DBus.Properties", "Get", "ss", of)[0][1]

        def children(dest: str, path: str):
            return call(dest, path, "org.a11y.atspi.Accessible", "GetChildren")[0]

        def walk(dest: str, path: str, rows: list) -> list:
            role = call(dest, path, "org.a11y.atspi.Accessible", "GetRoleName")[0]
            low, _high = call(dest, path, "org.a11y.atspi.Accessible", "GetState")[0]
            rows.append({
                "name": tell(dest, path, "Name"), "words": tell(dest, path, "Description"), "role": role,
                "focusable": bool(low >> 11 & 1), "showing": bool(low >> 25 & 1), "enabled": bool(low >> 8 & 1),
            })  # fmt: skip
            for child in children(dest, path):
                walk(*child, rows)
            return rows

        end = time.monotonic() + 60
        rows: list = []
        while not any(row["name"] == "Reduction" and row["showing"] for row in rows):
            assert time.monotonic() < end, f"the window did not come: {len(rows)} objects"
            time.sleep(0.5)
            with contextlib.suppress(LookupError):
                root = children("org.a11y.atspi.Registry", "/org/a11y/atspi/accessible/root")
                rows = walk(*root[0], []) if root else []
        sys.stdout.write(json.dumps(rows))
    finally:
        for process in reversed(started):
            process.terminate()
            process.wait(10)


if __name__ == "__main__":
    main()
