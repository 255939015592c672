# SPDX-License-Identifier: GPL-3.0-or-later
"""A signal that ends work by an error, also where the interpreter throws errors away.

The handler of a signal runs between any two instructions of the main thread. In the callback of a weak reference or in
a finaliser an error goes nowhere: the interpreter prints it, with a traceback, and goes on. There the signal is sent
once more, a moment later.
"""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Callable
from typing import Any

AGAIN_S = 0.05


def ends_with(number: signal.Signals, error: type[BaseException]) -> Callable[[], None]:
    """Let a signal raise an error in the main thread until it is heard; returns what takes this back.

    Raises ValueError outside the main thread.
    """

    def stop(*_: Any) -> None:  # noqa: ANN401 - the frame
        raise error(1)

    def thrown_away(what: Any) -> None:  # noqa: ANN401 - the class of the argument has no public name
        if not isinstance(what.exc_value, error):
            hook_before(what)
            return
        again = threading.Timer(AGAIN_S, signal.pthread_kill, (threading.main_thread().ident or 0, number))
        again.daemon = True
        again.start()

    before = signal.signal(number, stop)
    hook_before = sys.unraisablehook
    sys.unraisablehook = thrown_away

    def take_back() -> None:
        signal.signal(number, before)
        sys.unraisablehook = hook_before

    return take_back
