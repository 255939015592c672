# SPDX-License-Identifier: GPL-3.0-or-later
"""Which lanes are shown, where they lie and how tall they are."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from pulizia.desktop.assembly.geometry import LEAST_LANE, MOST_LANE, Geometry
from pulizia.desktop.bench.time_axis import TimeAxis
from pulizia.project.clips import FLATTEST, TALLEST, Lane, Programme
from pulizia.session.session import Session
from pulizia.words import tr

LIKE_OTHERS = 0.06  # a lane so near the height of the others takes it


class LaneRows(QWidget):
    """The rows of the lanes, without what is drawn in them."""

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__()
        self.session, self.axis = session, axis
        self._geometry = Geometry(axis)
        self._shown: tuple[Programme | None, frozenset[str], tuple[Lane, ...]] = (None, frozenset(), ())
        self.hidden: set[str] = set()
        self.pulled: tuple[str, float] = ("", 1.0)  # the lane whose height is being dragged, and that height
        self._arranged: tuple[tuple[Lane, ...] | None, tuple[str, float]] = (None, self.pulled)
        self._own_height = False

    @property
    def programme(self) -> Programme | None:
        """What is shown."""
        return self.session.assembly.programme

    @property
    def rows(self) -> tuple[Lane, ...]:
        """Lanes that are shown, from the top."""
        programme = self.programme
        if self._shown[0] is not programme or self._shown[1] != self.hidden:
            lanes = programme.lanes if programme is not None else ()
            self._shown = programme, frozenset(self.hidden), tuple(la for la in lanes if la.id not in self.hidden)
        return self._shown[2]

    @property
    def geometry_of(self) -> Geometry:
        """Where the rows lie."""
        rows = self.rows
        if self._arranged[0] is not rows or self._arranged[1] != self.pulled:  # asked for once for every clip
            self._arranged = rows, self.pulled
            taken, height = self.pulled
            self._geometry.arrange(tuple(height if lane.id == taken else lane.height for lane in rows))
        return self._geometry

    # -- size

    def hide_lane(self, lane_id: str) -> None:
        """Show the lane no longer; it is still heard."""
        self.hidden.add(lane_id)
        self.fit()
        self.session.events.selection.emit()  # commands are offered anew
        self.session.say(tr("The lane is hidden and still heard. Show all lanes brings it back."))

    def show_lanes(self) -> None:
        """Show hidden lanes again."""
        self.hidden.clear()
        self.fit()

    def fit(self) -> None:
        """Be as tall as the lanes; they share the room that there is, until somebody sets their height."""
        around = self.parentWidget()
        if not self._own_height and around is not None and self.rows:
            self.geometry_of.share(around.height(), len(self.rows))
        self.setMinimumHeight(self.geometry_of.height(len(self.rows)))
        self.update()

    def set_lane_height(self, height: int) -> None:
        """Make all lanes taller or flatter."""
        self._own_height = True
        self._geometry.lane_height = min(max(height, LEAST_LANE), MOST_LANE)
        self.fit()

    def pull_height(self, lane_id: str, height: float) -> None:
        """Show a lane at a height, relative to the others, as long as it is dragged."""
        self.pulled = lane_id, round(min(max(height, FLATTEST), TALLEST), 3)
        self.fit()

    def keep_height(self, lane_id: str, height: float) -> None:
        """A lane is as tall as it was dragged; near the others it has their height."""
        programme = self.programme
        self.pulled = ("", 1.0)
        if programme is not None:
            self.session.document.set_lane_height(
                programme.id, lane_id, 1.0 if abs(height - 1.0) < LIKE_OTHERS else height
            )
        self.fit()
