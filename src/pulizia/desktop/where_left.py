# SPDX-License-Identifier: GPL-3.0-or-later
"""A project opens where it was left: recording, step, playhead, view and place."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from pulizia.desktop.bench.overview_strip import Overview
from pulizia.desktop.bench.recent_files import keep_picture
from pulizia.desktop.bench.time_axis import TimeAxis
from pulizia.desktop.preferences import Preferences
from pulizia.session.session import Session

NAME, MOST_PROJECTS = "left at", 40


@dataclass(frozen=True, slots=True)
class _View:
    recording: str
    step: str
    position: int
    left: float
    frames_per_pixel: float


class WhereLeft:
    """Notes the view of a project when it is saved or closed, and takes it up when it is opened again."""

    def __init__(self, session: Session, axis: TimeAxis, preferences: Preferences, overview: Overview) -> None:
        self._session, self._axis, self._preferences = session, axis, preferences
        self._overview = overview
        self._project = session.document.project.id
        self._wanted: _View | None = None
        for event in (session.events.document, session.events.current):
            event.connect(self._look)

    def note(self) -> None:
        """Keep where the present project is, when it has a file."""
        session = self._session
        if session.document.path is None or session.current_id is None:
            return
        here = _View(
            session.current_id, session.step_id or "", session.transport.position, self._axis.left,
            self._axis.frames_per_pixel,
        )  # fmt: skip
        known = self._preferences.table(NAME)
        known.pop(session.document.project.id, None)
        known[session.document.project.id] = asdict(here)
        self._preferences.set(NAME, dict(list(known.items())[-MOST_PROJECTS:]))
        if session.chain is not None and not self._overview.size().isEmpty():
            box = self._overview.plot.toRect()
            keep_picture(session.document.path, self._overview.grab(box))

    def _look(self) -> None:
        session = self._session
        project = session.document.project
        if project.id != self._project:
            self._project = project.id
            self._wanted = _view_of(self._preferences.table(NAME).get(project.id))
            session.files.begin_with = self._wanted.recording if self._wanted is not None else ""
        wanted = self._wanted
        if wanted is None or session.chain is None or session.current_id != wanted.recording:
            return
        self._wanted = None
        session.sync()
        if session.owner is not None and any(s.id == wanted.step for s in session.owner.steps):
            session.choose_step(wanted.step)
        session.seek(wanted.position)
        self._axis.frames_per_pixel = wanted.frames_per_pixel
        self._axis.scroll_to(wanted.left)


def _view_of(row: object) -> _View | None:
    try:
        values: dict[str, Any] = dict(row)  # type: ignore[call-overload]
        return _View(
            str(values["recording"]), str(values["step"]), int(values["position"]), float(values["left"]),
            float(values["frames_per_pixel"]),
        )  # fmt: skip
    except (TypeError, ValueError, KeyError):
        return None
