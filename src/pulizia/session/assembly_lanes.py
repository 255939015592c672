# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of the programme as a whole, of its lanes and of its markers. No Qt."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from pulizia.audio.markers import Marker, in_order
from pulizia.errors import PuliziaError
from pulizia.project.clips import Lane, LaneKind, Programme
from pulizia.project.programme_edits import check_locks
from pulizia.session.assembly_subject import AssemblySubject
from pulizia.session.programme_notes import write_notes
from pulizia.words import tr

LOWEST_GAIN_DB, HIGHEST_GAIN_DB = -60.0, 24.0  # of a lane


class AssemblyLanes(AssemblySubject):
    """What is done to the programme, its lanes and its markers."""

    def apply(self, change: Callable[[Programme], Programme], what: str, merge_key: str | None = None) -> bool:
        """Change the programme as one entry of history called ``what``; a refusal is said, and False."""
        programme = self.programme
        if programme is None:
            return False
        try:
            changed = change(programme)
            check_locks(programme, changed)
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
            return False
        if changed != programme:
            self._session.document.edit_programme(changed, what, merge_key)
        return True

    def new_programme(self, name: str = "") -> None:
        """Begin a programme with a lane for voices and one for atmosphere, at the rate of the recording on the bench."""
        project = self._session.document.project
        rates = [r.rate for r in project.recordings]
        recording = self._session.recording
        rate = recording.rate if recording is not None else max(rates, key=rates.count, default=48_000)
        taken = {known.name for known in project.programmes}
        usual = (tr("Programme {number}", number=number) for number in itertools.count(len(taken) + 1))
        made = Programme(
            name=name or next(words for words in usual if words not in taken), rate=rate,
            lanes=(Lane(name=tr("Voice")), Lane(name=tr("Atmosphere"), kind="atmosphere")),
        )  # fmt: skip
        self.programme_id, self.lane_id, self.clip_ids, self.span = made.id, made.lanes[0].id, frozenset(), None
        self._session.document.edit_programme(made, tr("New programme"))

    def add_marker(self) -> None:
        """Set a marker at the playhead."""
        here = self._session.transport.position
        name = tr("Marker {number}", number=len(self.programme.markers) + 1 if self.programme is not None else 1)
        self.apply(lambda p: replace(p, markers=tuple(sorted((*p.markers, Marker(here, name))))), tr("Set a marker"))

    def change_marker(self, marker: Marker, changed: Marker) -> None:
        """Let a marker be another one."""
        self.apply(
            lambda p: replace(p, markers=in_order(changed if m == marker else m for m in p.markers)),
            tr("Change a note"),
        )

    def add_note(self, marker: Marker) -> None:
        """Add a marker that says something."""
        self.apply(lambda p: replace(p, markers=in_order((*p.markers, marker))), tr("Add a note"))

    def save_notes(self, path: Path) -> None:
        """Write the programme's notes as a table or as a page; a refusal is said."""
        programme = self.programme
        if programme is None:
            return
        try:
            write_notes(programme, path)
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
        else:
            self._session.say(tr("The notes were saved as {name}.", name=path.name))

    def rename_marker(self, marker: Marker, name: str) -> None:
        """Give a marker another name."""

        def renamed(programme: Programme) -> Programme:
            return replace(
                programme, markers=tuple(replace(m, name=name) if m == marker else m for m in programme.markers)
            )

        self.apply(renamed, tr("Rename a marker"))

    def remove_marker(self, marker: Marker) -> None:
        """Take a marker away."""
        self.apply(lambda p: replace(p, markers=tuple(m for m in p.markers if m != marker)), tr("Remove a marker"))

    def rename(self, name: str) -> None:
        """Give the programme another name."""
        if name.strip():
            self.apply(lambda p: replace(p, name=name.strip()), tr("Rename the programme"))

    def add_lane(self, kind: LaneKind = "voice", name: str = "") -> None:
        """Add a lane below the others."""
        programme = self.programme
        if programme is None:
            self.new_programme()
            return
        lane = Lane(name=name or tr("Lane {number}", number=len(programme.lanes) + 1), kind=kind)
        if self.apply(lambda p: p.with_lane(lane), tr("Add a lane")):
            self.choose_lane(lane.id)

    def remove_lane(self, lane_id: str) -> None:
        """Take a lane with its clips out of the programme."""
        self.apply(lambda p: replace(p, lanes=tuple(la for la in p.lanes if la.id != lane_id)), tr("Remove the lane"))

    def change_lane(self, lane_id: str, what: str, **changes: Any) -> None:  # noqa: ANN401
        """Change fields of a lane: name, kind, gain_db, muted, soloed, placement, stem, group, locked."""
        self.apply(lambda p: p.with_lane(replace(p.lane(lane_id), **changes)), what)

    def switch_lane(self, lane_id: str, what: str, field: str, *, on: bool) -> None:
        """Mute or solo a lane together with its group; ``field`` is "muted" or "soloed"."""

        def switched(programme: Programme) -> Programme:
            for lane in programme.grouped(lane_id):
                programme = programme.with_lane(replace(lane, **{field: on}))  # type: ignore[arg-type]
            return programme

        self.apply(switched, what)

    def lock_lane(self, lane_id: str | None = None) -> None:
        """Lock a lane, or the chosen one, or unlock it."""
        wanted = lane_id or (self.lane.id if self.lane is not None else None)
        if self.programme is None or wanted is None:
            return
        locked = not self.programme.lane(wanted).locked
        self.change_lane(wanted, tr("Lock a lane") if locked else tr("Unlock a lane"), locked=locked)

    def change_all_lanes(self, what: str, **changes: Any) -> None:  # noqa: ANN401
        """Change fields of every lane, as one entry of history."""
        self.apply(lambda p: replace(p, lanes=tuple(replace(lane, **changes) for lane in p.lanes)), what)

    def set_lane_gain(self, lane_id: str, gain_db: float) -> None:
        """Set the gain of a lane, its group goes along by as much; drags are one entry of history."""

        def turned(programme: Programme) -> Programme:
            by = gain_db - programme.lane(lane_id).gain_db
            for lane in programme.grouped(lane_id):
                programme = programme.with_lane(
                    replace(lane, gain_db=min(max(lane.gain_db + by, LOWEST_GAIN_DB), HIGHEST_GAIN_DB))
                )
            return programme

        self.apply(turned, tr("Change the gain of a lane"), f"lane:{lane_id}:gain")

    def move_lane(self, lane_id: str, by: int) -> None:
        """Move a lane up (-1) or down (1)."""

        def moved(programme: Programme) -> Programme:
            lane, others = programme.lane(lane_id), [la for la in programme.lanes if la.id != lane_id]
            at = [la.id for la in programme.lanes].index(lane_id) + by
            others.insert(min(max(at, 0), len(others)), lane)
            return replace(programme, lanes=tuple(others))

        self.apply(moved, tr("Move a lane"))


def switch_words(field: str, *, on: bool) -> str:
    """What switching a lane is called in the history."""
    words = {"muted": (tr("Unmute"), tr("Mute")), "soloed": (tr("End solo"), tr("Solo"))}
    return words[field][on]
