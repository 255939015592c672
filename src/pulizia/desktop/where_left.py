# SPDX-License-Identifier: GPL-3.0-or-later
"""A project opens where it was left: recording, step, playhead, view and place."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Protocol

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QStackedWidget

from pulizia.desktop.assembly.assembly import Assembly
from pulizia.desktop.bars import ASSEMBLY, BENCH, DELIVERY
from pulizia.desktop.bench.bench import Bench
from pulizia.desktop.bench.recent_files import PICTURE, keep_picture
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
    place: int = BENCH
    programme: str = ""
    programme_position: int = 0
    programme_left: float = 0.0
    programme_frames_per_pixel: float = 0.0


class Places(Protocol):
    """What the window shows, and how to show another of its places."""

    bench: Bench
    assembly: Assembly
    places: QStackedWidget

    def go_to(self, index: int) -> None:
        """Switch to a place."""


class WhereLeft:
    """Notes the view of a project when it is saved or closed, and takes it up when it is opened again."""

    def __init__(self, session: Session, window: Places, preferences: Preferences) -> None:
        self._session, self._window, self._preferences = session, window, preferences
        self._project = session.document.project.id
        self._wanted: _View | None = None
        for event in (session.events.document, session.events.current):
            event.connect(self._look)

    def note(self) -> None:
        """Keep where the present project is, when it has a file."""
        session, window = self._session, self._window
        if session.document.path is None or session.current_id is None:
            return
        axis, programme_axis = window.bench.axis, window.assembly.axis
        position, programme_position = session.assembly.positions
        here = _View(
            session.current_id, session.assembly.bench_step_id or "", position, axis.left, axis.frames_per_pixel, window.places.currentIndex(),
            session.assembly.subject_id or "", programme_position, programme_axis.left, programme_axis.frames_per_pixel,
        )  # fmt: skip
        known = self._preferences.table(NAME)
        known.pop(session.document.project.id, None)
        known[session.document.project.id] = asdict(here)
        self._preferences.set(NAME, dict(list(known.items())[-MOST_PROJECTS:]))
        size = PICTURE * 2
        if (picture := window.bench.overview.whole_sound(size.width(), size.height())) is not None:
            keep_picture(session.document.path, picture)

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
        axis = self._window.bench.axis
        axis.frames_per_pixel = wanted.frames_per_pixel
        axis.scroll_to(wanted.left)
        if wanted.place != BENCH or wanted.programme:
            QTimer.singleShot(0, lambda: self._return(wanted))  # once everybody has heard of the project

    def _return(self, wanted: _View) -> None:
        """To the programme and the place, unless somebody went elsewhere meanwhile."""
        session, window = self._session, self._window
        if session.document.project.id != self._project or window.places.currentIndex() != BENCH:
            return
        if any(p.id == wanted.programme for p in session.document.project.programmes):
            session.assembly.begin_with(wanted.programme, wanted.programme_position)
            if wanted.place == ASSEMBLY:
                window.go_to(ASSEMBLY)
                if wanted.programme_frames_per_pixel > 0:
                    window.assembly.axis.frames_per_pixel = wanted.programme_frames_per_pixel
                    window.assembly.axis.scroll_to(wanted.programme_left)
        if wanted.place == DELIVERY:
            window.go_to(DELIVERY)


def _view_of(row: object) -> _View | None:
    try:
        values: dict[str, Any] = dict(row)  # type: ignore[call-overload]
        return _View(
            str(values["recording"]), str(values["step"]), int(values["position"]), float(values["left"]),
            float(values["frames_per_pixel"]), int(values.get("place", BENCH)), str(values.get("programme", "")),
            int(values.get("programme_position", 0)), float(values.get("programme_left", 0.0)),
            float(values.get("programme_frames_per_pixel", 0.0)),
        )  # fmt: skip
    except (TypeError, ValueError, KeyError):
        return None
