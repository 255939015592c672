# SPDX-License-Identifier: GPL-3.0-or-later
"""Orders of the queue, and how what is not yet written is kept over a crash."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass, field, replace
from enum import Enum
from pathlib import Path
from typing import Any

from pulizia.delivery.deliver import Delivered
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.normalise import Plan, Way
from pulizia.delivery.targets import Target
from pulizia.errors import PuliziaError
from pulizia.media.leftovers import is_running
from pulizia.media.write import write_text
from pulizia.report.clip_table import ClipRow
from pulizia.score.steps import Step
from pulizia.words import N_

INTERRUPTED = N_("Interrupted. Click Retry.")


class Stage(Enum):
    """How far an order is."""

    WAITING = N_("waiting")
    WORKING = N_("working")
    DONE = N_("written")
    FAILED = N_("failed")
    STOPPED = N_("stopped")


@dataclass(slots=True)
class Order:
    """One file to be written."""

    subject_id: str
    name: str
    path: Path
    wanted: Deliverable
    target: Target
    way: Way
    dual_mono: bool
    with_report: bool
    overwrite: bool
    hard: bool = False  # limiting by more than 20 dB is meant
    plan: Plan | None = None
    stage: Stage = Stage.WAITING
    share: float = 0.0
    doing: str = ""
    message: str = ""
    delivered: Delivered | None = None
    steps: tuple[Step, ...] = field(default_factory=tuple)
    clips: tuple[ClipRow, ...] = ()


class OrderFile:
    """One session's orders that are not yet written; the file is gone when there are none."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / f"{os.getpid()}-{id(self):x}.orders"
        self._kept: list[dict[str, Any]] = []

    def keep(self, orders: Sequence[Order]) -> None:
        """Write down what waits, is being written or was interrupted, when that has changed; raises DiskError."""
        open_ones = [o for o in orders if o.stage in (Stage.WAITING, Stage.WORKING) or o.message == INTERRUPTED]
        rows = [_row(order) for order in open_ones]
        if rows == self._kept:
            return
        if rows:
            write_text(self._file, json.dumps({"pid": os.getpid(), "orders": rows}))
        else:
            self._file.unlink(missing_ok=True)
        self._kept = rows


def interrupted(folder: Path, subjects: Collection[str]) -> list[Order]:
    """Orders that ended sessions left unwritten, for these recordings and programmes; their files are taken away.

    A file with orders for others waits for its project. Damaged files are dropped.
    """
    found: list[Order] = []
    for file in sorted(folder.glob("*.orders")):
        try:
            content = json.loads(file.read_text(encoding="utf-8"))
            if is_running(int(content["pid"])):
                continue
            orders = [_order(row) for row in content["orders"]]
        except (OSError, ValueError, KeyError, TypeError, AttributeError, PuliziaError):
            orders = []
        if all(order.subject_id in subjects for order in orders):
            found += orders
            with contextlib.suppress(OSError):
                file.unlink()
    return found


def _row(order: Order) -> dict[str, Any]:
    return {
        "subject": order.subject_id,
        "name": order.name,
        "path": str(order.path),
        "wanted": asdict(order.wanted),
        "target": asdict(order.target),
        "way": order.way,
        "dual_mono": order.dual_mono,
        "with_report": order.with_report,
        "overwrite": order.overwrite,
        "hard": order.hard,
    }


def _order(row: dict[str, Any]) -> Order:
    order = Order(
        subject_id=row.get("subject") or row["recording"],
        name=row["name"],
        path=Path(row["path"]),
        wanted=Deliverable(**row["wanted"]),
        target=Target(**row["target"]),
        way=row["way"],
        dual_mono=row["dual_mono"],
        with_report=row["with_report"],
        overwrite=row["overwrite"],
        hard=bool(row.get("hard", False)),
    )
    return replace(order, stage=Stage.STOPPED, message=INTERRUPTED)
