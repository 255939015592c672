# SPDX-License-Identifier: GPL-3.0-or-later
"""A project opens where it was left: recording, step, playhead, view and place."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from pulizia.desktop.bench.overview_strip import Overview
from pulizia.desktop.bench.recent_files import keep_picture
from pulizia.desktop.bench.time_axis import TimeAxis
from pulizia.desktop.preferences import Preferences
from pulizia.session.studio import Studio

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

    def __init__(self, studio: Studio, axis: TimeAxis, preferences: Preferences, overview: Overview) -> None:
        self._studio, self._axis, self._preferences = studio, axis, preferences
        self._overview = overview
        self._project = studio.document.project.id
        self._wanted: _View | None = None
        for event in (studio.events.document, studio.events.current):
            event.connect(self._look)

    def note(self) -> None:
        """Keep where the present project is, when it has a file."""
        studio = self._studio
        if studio.document.path is None or studio.current_id is None:
            return
        here = _View(
            studio.current_id, studio.step_id or "", studio.transport.position, self._axis.left,
            self._axis.frames_per_pixel,
        )  # fmt: skip
        known = self._preferences.table(NAME)
        known.pop(studio.document.project.id, None)
        known[studio.document.project.id] = asdict(here)
        self._preferences.set(NAME, dict(list(known.items())[-MOST_PROJECTS:]))
        if studio.chain is not None and not self._overview.size().isEmpty():
            box = self._overview.plot.toRect()
            keep_picture(studio.document.path, self._overview.grab(box))

    def _look(self) -> None:
        studio = self._studio
        project = studio.document.project
        if project.id != self._project:
            self._project = project.id
            self._wanted = _view_of(self._preferences.table(NAME).get(project.id))
            studio.files.begin_with = self._wanted.recording if self._wanted is not None else ""
        wanted = self._wanted
        if wanted is None or studio.chain is None or studio.current_id != wanted.recording:
            return
        self._wanted = None
        studio.sync()
        if studio.owner is not None and any(s.id == wanted.step for s in studio.owner.steps):
            studio.choose_step(wanted.step)
        studio.seek(wanted.position)
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
